"""Plans: a question's formulas as trees over cells, for any engine to answer."""
