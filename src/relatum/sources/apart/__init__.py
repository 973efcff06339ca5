"""Databases in files, read by a process of their own: one that takes too long or too much is ended."""
