"""Typed values: how text from documents becomes exact numbers, dates and clean words, and back."""
