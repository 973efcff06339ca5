"""What the audit looks for, one file for each part of a model."""
