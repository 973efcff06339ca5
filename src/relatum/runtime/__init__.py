"""What a process may use, and how it reports progress: limits, threads, other processes, files, garbage."""
