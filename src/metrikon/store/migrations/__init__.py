"""Alembic's folder: how the tables came to be what they are."""
