"""Where data comes from: files and frames."""
