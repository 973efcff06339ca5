"""The shell: one file a command. Results go to standard output, messages to standard error."""
