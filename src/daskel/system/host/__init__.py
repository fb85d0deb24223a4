"""This machine: interfaces, ports, processes, privileges, files opened within a folder. No
roots."""
