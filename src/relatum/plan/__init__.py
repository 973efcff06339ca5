"""Plans: a request's formulas as trees over cells, for any engine to answer."""
