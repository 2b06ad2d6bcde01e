"""Where each value stands in the document, or what it rests on; what the print shows to be meant otherwise."""
