"""Intakes: where items come from."""
