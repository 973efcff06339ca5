"""Formulas: from text to a syntax tree to a resolved, typed expression. No numbers are touched here."""
