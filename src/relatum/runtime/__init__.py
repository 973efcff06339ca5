"""What a process of ours may use, and how it tells how far it is: limits, threads, other processes, paths, garbage."""
