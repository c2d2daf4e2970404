"""The command line: options, progress, tables, messages, exit codes. Nothing here is needed by the core."""
