"""How results look: number formats, text, tables for machines."""
