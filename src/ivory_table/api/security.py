"""What is let in and what the page may do: known hosts and devices only, own origin only, no inline script, no giants."""

from contextlib import suppress
from datetime import UTC, datetime
from secrets import token_urlsafe

from fastapi.concurrency import run_in_threadpool
from fastapi.responses import JSONResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from ivory_table.access.network import OWN_HOSTS, Network
from ivory_table.access.roles import HERE, ROLE_WORDS, Role, Who, may, needed
from ivory_table.store.devices import Done, keep_done

from .problems import problem

#: A whole run or set-up, a pasted grid, and everything else: what is kept at a machine is small.
MAX_FILE = 4 * 1024 * 1024
#: A job to be checked.
MAX_JOB = 300 * 1024 * 1024
#: A whole workshop, packed.
MAX_CARRIED = 1024 * 1024 * 1024
MAX_PASTE = 1024 * 1024
MAX_BODY = 128 * 1024


def policy(nonce: str) -> str:
    """Everything from the own origin. Styles that Radix inserts carry the page's nonce."""
    return (
        "default-src 'none'; script-src 'self'; connect-src 'self'; img-src 'self' data:; font-src 'self'; "
        f"style-src 'self' 'nonce-{nonce}'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
    )


class Guard:
    """ASGI middleware around the whole application."""

    def __init__(self, app: ASGIApp, network: Network | None = None) -> None:
        self.app, self._network = app, network

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        headers = {k.decode("latin-1").lower(): v.decode("latin-1") for k, v in scope["headers"]}
        host = headers.get("host", "")
        if not self._knows(host):
            await problem(400, "foreign_host", FOREIGN_HOST if self._network is None else FOREIGN_NAME)(
                scope, receive, send
            )
            return
        origin = headers.get("origin")
        own = {f"{scope['scheme']}://{host}"}
        if self._network is not None and self._network.public:
            own.add(self._network.public)
        if scope["method"] not in ("GET", "HEAD") and origin is not None and origin not in own:
            await problem(403, "foreign_origin", "Another site may not write here.")(scope, receive, send)
            return
        path, method = scope["path"], scope["method"]
        role = needed(method, path)
        who = await self._who(scope, headers) if path.startswith("/api/") else None
        if role is not None and (who is None or not may(who, role)):
            if who is not None and method not in ("GET", "HEAD"):
                await self._note(who, f"{method} {path}", "not_allowed")
            await _not_let_in(who, role)(scope, receive, send)
            return
        most = MAX_PASTE if path.endswith("/mesh/preview") else MAX_BODY
        too_large = TOO_LARGE_HERE
        if path.endswith("/import"):
            most, too_large = MAX_FILE, TOO_LARGE
        elif path.endswith(("/jobs", "/jobs/copy")):
            most, too_large = MAX_JOB, TOO_LARGE_JOB
        elif path == "/api/carried":
            most, too_large = MAX_CARRIED, TOO_LARGE_CARRIED
        size = headers.get("content-length", "0")
        if size.isdigit() and int(size) > most:
            await problem(413, "too_large", too_large)(scope, receive, send)
            return
        scope["state"] = {**scope.get("state", {}), "nonce": token_urlsafe(16), "who": who}
        nonce = scope["state"]["nonce"]
        taken, started, status = 0, False, 500

        async def limited() -> Message:
            nonlocal taken
            message = await receive()
            taken += len(message.get("body", b""))
            if taken > most:
                raise _TooLarge
            return message

        async def guarded(message: Message) -> None:
            nonlocal started, status
            if taken > most:
                return  # whatever the application made of the cut is replaced below
            if message["type"] == "http.response.start":
                started, status = True, message["status"]
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
        state = scope["state"]
        # What is kept in runs is signed there; here stands who moved and who set up.
        if method not in ("GET", "HEAD") and (role in ("move", "here") or "did" in state) and state["who"] is not None:
            await self._note(
                state["who"], state.get("did", f"{method} {path}"), None if status < 400 else f"refused with {status}"
            )

    def _knows(self, host: str) -> bool:
        if self._network is not None:
            return self._network.host_known(host)
        return host.rsplit(":", 1)[0] in OWN_HOSTS or host in OWN_HOSTS

    async def _who(self, scope: Scope, headers: dict[str, str]) -> Who | None:
        if self._network is None:
            return HERE
        client = scope["client"][0] if scope.get("client") else None
        return await run_in_threadpool(self._network.who, client, headers)

    async def _note(self, who: Who, words: str, refused: str | None) -> None:
        """Who moved what; without a network nobody else could have."""
        if self._network is not None:
            done = Done(at=datetime.now(UTC), device=who.device, name=who.name, words=words, refused=refused)
            await run_in_threadpool(keep_done, done)


def _not_let_in(who: Who | None, role: Role) -> JSONResponse:
    if who is None:
        return problem(401, "not_let_in", "This device was not let in. Ask for a code at the first machine.")
    if role == "here":
        return problem(403, "not_allowed", "That is done at the first machine only, the one that runs Ivory Table.")
    return problem(
        403,
        "not_allowed",
        f"{who.name} may {ROLE_WORDS[who.role]}, not {ROLE_WORDS[role].split(':')[0]}. The first machine can change that.",
    )


FOREIGN_HOST = "Ivory Table answers on this machine only."
FOREIGN_NAME = "Ivory Table does not know itself under this name. Use its address in numbers, or start it with --name and the name."
TOO_LARGE = "That file is larger than 4 MB; a mesh or a run has a few hundred kB. Is it the right one?"
TOO_LARGE_JOB = "That job is larger than 300 MB; more is not read."
TOO_LARGE_CARRIED = "That file is larger than 1 GB. Bring a workshop of that size back with `ivory-table import`."
TOO_LARGE_HERE = "That is far more than can be meant here. Is it the right text?"


class _TooLarge(Exception):
    pass
