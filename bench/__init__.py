"""Measurements as ratios: the service against a plain script, much against little, in one run."""
