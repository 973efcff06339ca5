"""The scan in blocks: the memory engine's inner loops compiled to machine code, where that is installed and ready."""
