"""What can end a job on a line before its time."""


class LineTrouble(Exception):
    """Why a job ended early; the sentence says what happened and what to do."""


class Cancelled(LineTrouble):
    """The person ended the job between two commands."""


class Lost(LineTrouble):
    """The machine is gone or makes no sense."""


class HaltedByMachine(LineTrouble):
    """The machine halted; only recovering or power brings it back."""


class Refusal(LineTrouble):
    """The machine answered a line with an error."""


class NotConfirmed(LineTrouble):
    """A line was not confirmed in time, but the machine answers."""
