"""Columns: narrow arrays with bounds and nulls, and the types they have."""
