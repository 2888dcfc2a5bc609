"""Programs for the machine: writing them, and reading them back."""
