"""What becomes of a model: edits, what depends on what, two models compared, sources read again."""
