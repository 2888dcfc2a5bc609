"""Who may do what: the machine that serves, and devices of the workshop's network that were let in."""
