"""The command line: arguments, output and exit codes. What commands share lives here; no command
does."""
