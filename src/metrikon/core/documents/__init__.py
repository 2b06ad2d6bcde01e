"""The document model: what any file becomes, and how its words are put in order and in tables."""
