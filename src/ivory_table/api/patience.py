"""Connections that send nothing are closed: one that was opened and forgotten holds no place for ever."""

import asyncio
from typing import Any

from uvicorn.protocols.http.h11_impl import H11Protocol

#: Nothing is heard for so long while something is owed: a request, or the rest of one.
SILENT_S = 30.0


class Impatient(H11Protocol):
    """uvicorn's own protocol with a limit on how long it waits for a client to say something."""

    silent_s = SILENT_S
    _silence: asyncio.TimerHandle | None = None

    def connection_made(self, transport: Any) -> None:
        super().connection_made(transport)
        self._listen()

    def data_received(self, data: bytes) -> None:
        self._listen()
        super().data_received(data)

    def connection_lost(self, exc: Exception | None) -> None:
        if self._silence is not None:
            self._silence.cancel()
        super().connection_lost(exc)

    def _listen(self) -> None:
        if self._silence is not None:
            self._silence.cancel()
        self._silence = self.loop.call_later(self.silent_s, self._has_been_silent)

    def _has_been_silent(self) -> None:
        at = self.cycle
        # While an answer is being made or streamed it is for us to speak.
        theirs = at is None or at.response_complete or at.more_body
        if theirs and not self.transport.is_closing():
            self.transport.close()
        elif not theirs:
            self._listen()
