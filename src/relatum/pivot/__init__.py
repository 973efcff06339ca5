"""Pivots: a request becomes cells, and cells become a grid."""
