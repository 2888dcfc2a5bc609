"""The practice plate: a simulated machine with a hidden truth. Only the command line, the demo and tests start it."""
