"""Engines: whatever can answer a plan."""
