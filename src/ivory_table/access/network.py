"""The workshop's own network: codes that let a device in, the cookie it then shows, and how often either may be tried."""

import hmac
import secrets
import socket
import threading
import time
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from hashlib import sha256
from ipaddress import ip_address
from pathlib import Path
from urllib.parse import urlsplit
from uuid import uuid4

import limits
from itsdangerous import BadData, URLSafeTimedSerializer
from limits.storage import MemoryStorage
from limits.strategies import MovingWindowRateLimiter

from ivory_table.runs.doubts import Refused
from ivory_table.store import devices
from ivory_table.store.devices import Device
from ivory_table.store.trouble import Unknown

from .roles import HERE, Role, Who

COOKIE = "ivory_device"
#: A device that was let in is asked for a code again after half a year.
COOKIE_S = 180 * 24 * 3600
#: A code lets one device in, for so long.
CODE_S = 600
#: Letters and digits that are not taken for one another when read aloud or typed.
LETTERS = "ABCDEFGHJKMNPQRSTUVWXYZ23456789"
CODE_LENGTH = 8
OWN_HOSTS = frozenset({"127.0.0.1", "localhost", "[::1]"})
#: A proxy says for whom it asks: that is not somebody at this machine.
_FORWARDED = ("forwarded", "x-forwarded-for", "x-forwarded-host", "x-real-ip", "via")
#: Codes tried: by one address, and by all of them.
_EACH, _ALL = limits.parse("6/minute"), limits.parse("60/10minutes")


@dataclass(frozen=True)
class Code:
    """A code as it was given out: kept as its hash."""

    digest: str
    name: str
    role: Role
    until: float


class Network:
    """Who is let in from the network. One for each server that has `--lan`."""

    def __init__(
        self,
        secret: bytes,
        *,
        names: frozenset[str] = frozenset(),
        public: str = "",
        encrypted: bool = False,
        now: Callable[[], float] = time.time,
    ) -> None:
        """`names`: host names this machine answers to. `public`: the address a proxy gives it, with its scheme."""
        self._signer = URLSafeTimedSerializer(secret, salt="device", signer_kwargs={"digest_method": sha256})
        self._names = names | ({urlsplit(public).netloc} if public else set())
        self.public, self.encrypted, self._now = public, encrypted or public.startswith("https:"), now
        self._codes: list[Code] = []
        self._tries = MovingWindowRateLimiter(MemoryStorage())
        self._lock = threading.Lock()
        self._seen: dict[str, float] = {}

    # Asking

    def host_known(self, host: str) -> bool:
        """Whether a host names this machine. A bare address always does: only a name can be made to point elsewhere."""
        name = _without_port(host)
        if name in OWN_HOSTS or host in self._names or name in self._names:
            return True
        try:
            ip_address(name.strip("[]"))
        except ValueError:
            return False
        return True

    def who(self, client: str | None, headers: Mapping[str, str]) -> Who | None:
        """Who asks; None where nobody was let in as that.

        At the serving machine itself nothing is asked; behind a proxy, which may stand on it too, the same code is asked
        of everybody, and the first machine is let in by the one that is printed when the server begins.
        """
        if not self.public and is_here(client, headers):
            self._seen[HERE.device] = self._now()
            return HERE
        token = _cookies(headers.get("cookie", "")).get(COOKIE, "")
        try:
            device_id = self._signer.loads(token, max_age=COOKIE_S)
            found = devices.device(str(device_id))
        except (BadData, Unknown):
            return None
        if found.shut_out_at is not None:
            return None
        self._seen[found.id] = self._now()
        return Who(device=found.id, name=found.name, role=found.role)

    def seen_s_ago(self, device_id: str) -> float | None:
        """How long ago a device asked for something; None: not since the server began."""
        at = self._seen.get(device_id)
        return None if at is None else self._now() - at

    def still(self, who: Who) -> bool:
        """Whether a device is still let in, and for the same."""
        self._seen[who.device] = self._now()
        if who.role == "here":
            return True
        try:
            found = devices.device(who.device)
        except Unknown:
            return False
        return found.shut_out_at is None and found.role == who.role

    # Letting in

    def new_code(self, name: str, role: Role) -> tuple[str, datetime]:
        """A code that lets one device in, and until when."""
        code = "".join(secrets.choice(LETTERS) for _ in range(CODE_LENGTH))
        until = self._now() + CODE_S
        with self._lock:
            self._codes = [c for c in self._codes if c.until > self._now()]
            self._codes.append(Code(_digest(code), name, role, until))
        return code, datetime.fromtimestamp(until, UTC)

    def join(self, code: str, address: str) -> tuple[Device, str]:
        """Let in whoever shows a code: the device as it is kept now, and its cookie. Raises Refused."""
        if not (self._tries.hit(_EACH, address) and self._tries.hit(_ALL, "all")):
            raise Refused(
                "too_many_tries", "That was tried too often. Wait a minute, then type the newest code.", "code"
            )
        digest = _digest("".join(code.split()).replace("-", "").upper())
        with self._lock:
            self._codes = [c for c in self._codes if c.until > self._now()]
            found = next((c for c in self._codes if hmac.compare_digest(c.digest, digest)), None)
            if found is None:
                raise Refused(
                    "code_unknown",
                    "This code lets nobody in. It may be older than ten minutes or used already: ask for a new one at the "
                    "first machine.",
                    "code",
                )
            self._codes.remove(found)
        device = Device(
            id=f"d-{uuid4().hex[:12]}",
            name=found.name,
            role=found.role,
            let_in_at=datetime.fromtimestamp(self._now(), UTC),
        )
        devices.keep_device(device)
        return device, self._signer.dumps(device.id)

    def addresses(self, port: int) -> tuple[str, ...]:
        """Where a device of the network finds this machine, likeliest first."""
        if self.public:
            return (self.public,)
        scheme = "https" if self.encrypted else "http"
        return tuple(f"{scheme}://{at}:{port}" for at in (*own_addresses(), *sorted(self._names)))


def is_here(client: str | None, headers: Mapping[str, str]) -> bool:
    """Whether somebody sits at the serving machine: its own address, under its own name, and for nobody else."""
    try:
        near = client is not None and ip_address(client).is_loopback
    except ValueError:
        near = False
    return near and _without_port(headers.get("host", "")) in OWN_HOSTS and not any(f in headers for f in _FORWARDED)


def own_addresses() -> tuple[str, ...]:
    """This machine's addresses on its networks."""
    found: list[str] = []
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as asked, suppress(OSError):
        # Nothing is sent: the system only says which of its addresses it would send from.
        asked.connect(("192.0.2.1", 9))
        found.append(asked.getsockname()[0])
    with suppress(OSError):
        found += [str(at[4][0]) for at in socket.getaddrinfo(socket.gethostname(), None, socket.AF_INET)]
    return tuple(dict.fromkeys(at for at in found if not at.startswith("127.")))


def secret_of(data: Path) -> bytes:
    """The key that signs cookies: made once for a workshop's folder, readable by its owner only, in no copy."""
    file = data / "secret.key"
    try:
        return file.read_bytes()
    except FileNotFoundError:
        file.parent.mkdir(parents=True, exist_ok=True)
        file.touch(mode=0o600)
        file.write_bytes(secrets.token_bytes(32))
        return file.read_bytes()


def _digest(code: str) -> str:
    return sha256(code.encode()).hexdigest()


def _without_port(host: str) -> str:
    """The host of a header: `[::1]:80` and `heron.local:80` without what follows the last colon."""
    if host.startswith("["):
        return host.partition("]")[0] + "]"
    return host.partition(":")[0]


def _cookies(header: str) -> dict[str, str]:
    pairs = (part.strip().partition("=") for part in header.split(";"))
    return {name: value for name, _, value in pairs}
