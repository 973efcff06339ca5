"""What a modeller should know about a model and its data."""
