"""Readers: from the bytes of a file to a document. The format is found in the bytes, not the name."""
