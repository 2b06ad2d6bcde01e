"""What each kind of step does; one module a kind, with the name of the kind. They are found like those of any package, by entry points."""
