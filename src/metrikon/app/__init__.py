"""The app: puts the parts together from settings."""
