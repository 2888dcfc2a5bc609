"""Ivory Table: from a crooked plate to a judged first layer."""

__version__ = "0.1.0"

import os

# The matrices here are small and several are worked on at once: threads of a numeric library would only wait for each other.
# Set before numpy is loaded; whoever sets it otherwise is left alone.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
