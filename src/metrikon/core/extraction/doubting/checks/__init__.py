"""The checks of a reading, one a module: what it looks at, and what it finds. Found by walking this folder."""
