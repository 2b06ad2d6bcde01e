"""How many characters stand for a token of a language model: one figure, and the margins that each use of it keeps."""

from __future__ import annotations

TYPICAL = 4.0  # in estimates, until the model's own calls tell better
PLANNED = 3.0  # where a document is parted: a prompt must not turn out longer than it may be
SENT = 2.8  # for the room of a model, with its own words around the prompt
RESERVED = 2.5  # where what a call may cost is reserved: taken low, so that it is not too little
