"""Metrikon: documents in, checked rows out. Every value carries its evidence; every row is written once."""

__version__ = "0.6.0"

__all__ = ["__version__"]
