"""Charts of grids: what is drawn is chosen, laid out and drawn here, with matplotlib."""
