"""Judgement: what to ask a model of a document, and what its answer rests on. Asks nothing itself."""
