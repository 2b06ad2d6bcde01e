"""Trials: readings set against right records, value by value."""
