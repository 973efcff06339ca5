"""The memory engine: NumPy arrays, join indexes, and scans that work a fact table in chunks on all cores."""
