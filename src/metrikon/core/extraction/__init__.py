"""Extraction without asking: what to ask, what an answer means, where its values stand, what is wrong with it."""
