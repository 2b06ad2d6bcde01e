"""Models: adapters behind the model port."""
