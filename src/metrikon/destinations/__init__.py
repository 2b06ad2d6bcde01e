"""Destinations: adapters behind the destination port."""
