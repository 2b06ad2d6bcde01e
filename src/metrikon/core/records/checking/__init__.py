"""The checks of a record by itself, one a module, found by walking this folder: what the desk checks anew after a correction."""
