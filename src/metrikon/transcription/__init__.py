"""Adapters of the transcription port."""
