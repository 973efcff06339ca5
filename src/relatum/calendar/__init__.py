"""Calendars: pure functions of dates."""
