"""How sure each value is, what is asked again, and what is told of the reading."""
