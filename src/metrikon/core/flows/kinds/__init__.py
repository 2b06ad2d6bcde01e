"""The kinds of step that ship with Metrikon, one module each; they are found like those of any package, by entry points."""
