"""The live face of a model: asking, explaining, editing, drafting."""
