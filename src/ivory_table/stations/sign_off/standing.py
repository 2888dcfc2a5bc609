"""Where signing off stands."""

from ivory_table.runs.run import OpenRun
from ivory_table.runs.standing import Standing, stands


@stands("sign_off")
def standing(run: OpenRun) -> Standing:
    signed = run.state.signed_off
    return Standing(begun=signed, done=signed, figure="signed off" if signed else "open")
