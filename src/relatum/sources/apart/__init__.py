"""Databases in files, read by a separate process, which is ended when it takes too long or too much memory."""
