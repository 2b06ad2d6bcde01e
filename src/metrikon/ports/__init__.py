"""Ports: one small protocol a file, behind which the outside stands."""
