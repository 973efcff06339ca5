"""What a model says: tables, relationships, measures, controls. Immutable, and free of numbers."""
