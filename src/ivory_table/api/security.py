"""What is let in and what the page may do: own host only, own origin only, no inline script, no giants."""

from contextlib import suppress
from secrets import token_urlsafe

from starlette.types import ASGIApp, Message, Receive, Scope, Send

from .problems import problem

#: A whole run or set-up, a pasted grid, and everything else: what is kept at a machine is small.
MAX_FILE = 4 * 1024 * 1024
MAX_PASTE = 1024 * 1024
MAX_BODY = 128 * 1024
OWN_HOSTS = {"127.0.0.1", "localhost", "[::1]"}


def policy(nonce: str) -> str:
    """Everything from the own origin. Styles that Radix inserts carry the page's nonce."""
    return (
        "default-src 'none'; script-src 'self'; connect-src 'self'; img-src 'self' data:; font-src 'self'; "
        f"style-src 'self' 'nonce-{nonce}'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
    )


class Guard:
    """ASGI middleware around the whole application."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        headers = {k.decode("latin-1").lower(): v.decode("latin-1") for k, v in scope["headers"]}
        host = headers.get("host", "")
        if host.rsplit(":", 1)[0] not in OWN_HOSTS and host not in OWN_HOSTS:
            await problem(400, "foreign_host", "Ivory Table answers on this machine only.")(scope, receive, send)
            return
        origin = headers.get("origin")
        if scope["method"] not in ("GET", "HEAD") and origin not in (None, f"http://{host}"):
            await problem(403, "foreign_origin", "Another site may not write here.")(scope, receive, send)
            return
        path = scope["path"]
        most = MAX_FILE if path.endswith("/import") else MAX_PASTE if path.endswith("/mesh/preview") else MAX_BODY
        too_large = TOO_LARGE if most == MAX_FILE else TOO_LARGE_HERE
        size = headers.get("content-length", "0")
        if size.isdigit() and int(size) > most:
            await problem(413, "too_large", too_large)(scope, receive, send)
            return
        scope["state"] = {**scope.get("state", {}), "nonce": token_urlsafe(16)}
        nonce = scope["state"]["nonce"]
        taken, started = 0, False

        async def limited() -> Message:
            nonlocal taken
            message = await receive()
            taken += len(message.get("body", b""))
            if taken > most:
                raise _TooLarge
            return message

        async def guarded(message: Message) -> None:
            nonlocal started
            if taken > most:
                return  # whatever the application made of the cut is replaced below
            if message["type"] == "http.response.start":
                started = True
                message["headers"] = [
                    *message["headers"],
                    (b"content-security-policy", policy(nonce).encode()),
                    (b"x-content-type-options", b"nosniff"),
                    (b"referrer-policy", b"no-referrer"),
                    (b"cross-origin-opener-policy", b"same-origin"),
                ]
            await send(message)

        with suppress(_TooLarge):
            await self.app(scope, limited, guarded)
        if taken > most and not started:
            await problem(413, "too_large", too_large)(scope, receive, send)


TOO_LARGE = "That file is larger than 4 MB; a mesh or a run has a few hundred kB. Is it the right one?"
TOO_LARGE_HERE = "That is far more than can be meant here. Is it the right text?"


class _TooLarge(Exception):
    pass
