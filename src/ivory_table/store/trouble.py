"""Why something is not kept or not found."""

MOVED_ON = "Something else was kept in this run meanwhile, perhaps in another tab. Look at where it is now."


class Unknown(LookupError):
    """Nothing is kept under that id."""


class Unreadable(ValueError):
    """A run holds a row that this version cannot read; the others are not touched by it."""


class Clash(RuntimeError):
    """An id is taken by something else, or the run has moved on; says which in its code."""

    def __init__(self, code: str, sentence: str) -> None:
        super().__init__(sentence)
        self.code = code
