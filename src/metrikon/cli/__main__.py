"""`python -m metrikon.cli`."""

import sys

from metrikon.cli import main

sys.exit(main())
