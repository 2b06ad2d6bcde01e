"""What a work that is done apart may raise, told over by name."""

from __future__ import annotations

from metrikon.core.templates.filling import BadTemplate, Hindered
from metrikon.ports.destination import Broken, Busy, Unusable
from metrikon.ports.intake import IntakeFailed

ERRORS: tuple[type[Exception], ...] = (BadTemplate, Broken, Busy, Hindered, IntakeFailed, Unusable)
BY_NAME = {each.__name__: each for each in ERRORS}
TOLD_AS = "told:"  # before the name, in the code of an answer
