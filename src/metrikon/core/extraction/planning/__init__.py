"""Before anything is asked: what the file says for certain, which columns hold which fields, what is left to ask, and in which words."""
