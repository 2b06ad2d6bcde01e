"""Flows: the document, its verification, and the fold that walks it."""
