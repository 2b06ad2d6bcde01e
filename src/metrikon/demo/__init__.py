"""The demo scenario: the made-up Ellerby Botanic Garden, its suppliers, and what they send."""
