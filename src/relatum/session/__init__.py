"""A model with its data: loaded tables, the catalog of what formulas can mention, and an engine."""
