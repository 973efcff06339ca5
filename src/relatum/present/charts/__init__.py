"""Charts of grids: chosen, laid out and drawn here, with matplotlib."""
