"""Documents made from templates: text with holes, in whatever form an office program keeps it. Nothing is read or written here but bytes."""
