"""The engine: it carries out what the fold asks for, and journals it. The fold decides; the engine does."""
