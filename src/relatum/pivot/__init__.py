"""Pivots: a question becomes cells, and cells become a grid."""
