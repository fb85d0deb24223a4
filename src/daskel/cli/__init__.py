"""The commands: arguments, output and exit codes."""
