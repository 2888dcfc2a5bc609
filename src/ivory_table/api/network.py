"""The workshop's network: letting devices in and shutting them out, and what was done from them."""

from datetime import UTC, datetime
from typing import Annotated

import segno
from fastapi import APIRouter, Path, Request, Response
from pydantic import AwareDatetime, Field

from ivory_table.access.network import COOKIE, COOKIE_S, Network
from ivory_table.access.roles import HERE, ROLE_WORDS, DeviceRole, Role, Who
from ivory_table.core.value import Id, Label, Value
from ivory_table.runs.doubts import Refused
from ivory_table.store import devices
from ivory_table.store.devices import Device, Done

network_routes = APIRouter(prefix="/api/network", tags=["network"])
DeviceId = Annotated[Id, Path(description="The device's id.")]


class Me(Value):
    """Who asks, and for what they were let in. `on`: whether this server answers a network at all."""

    on: bool
    device: Id | None
    name: str
    role: Role | None
    words: str


class DeviceLine(Value):
    device: Device
    words: str
    seen_s_ago: float | None


class NetworkView(Value):
    me: Me
    addresses: tuple[str, ...]
    encrypted: bool
    devices: tuple[DeviceLine, ...]
    roles: dict[DeviceRole, str]
    done: tuple[Done, ...]


class NewCode(Value):
    name: Annotated[Label, Field(max_length=40)]
    role: DeviceRole = "work"


class Invitation(Value):
    """A code that lets one device in: to be typed, or scanned as the address that carries it."""

    code: str
    until: AwareDatetime
    address: str
    #: The address as a picture, as a data URI.
    qr: str


class Join(Value):
    code: Annotated[str, Field(min_length=1, max_length=40)]


class KeepDevice(Value):
    name: Annotated[Label, Field(max_length=40)]
    role: DeviceRole


def who(request: Request) -> Who:
    found: Who = request.state.who
    return found


def did(request: Request, words: str) -> None:
    """What is written into the list of who moved what, in words, instead of its address."""
    request.state.did = words


def _network(request: Request) -> Network:
    found: Network | None = request.app.state.network
    if found is None:
        raise Refused("no_network", "This server answers this machine only. Start it with --lan to let devices in.")
    return found


def _me(request: Request) -> Me:
    on = request.app.state.network is not None
    at: Who | None = getattr(request.state, "who", None)
    if at is None:
        return Me(on=on, device=None, name="", role=None, words="This device was not let in yet.")
    return Me(on=on, device=at.device, name=at.name, role=at.role, words=f"{at.name}: may {ROLE_WORDS[at.role]}")


def base_of(request: Request) -> str:
    """The address under which a device of the network finds this server; on paper it must lead here."""
    network: Network | None = request.app.state.network
    port = (request.scope.get("server") or ("", 0))[1] or 80
    found = network.addresses(port) if network else ()
    return found[0] if found else str(request.base_url).rstrip("/")


@network_routes.get("/me")
def get_me(request: Request) -> Me:
    return _me(request)


@network_routes.post("/join")
def join(request: Request, response: Response, wanted: Join) -> Me:
    """Be let in by a code. The answer sets a signed cookie that no script can read."""
    network = _network(request)
    client = request.client.host if request.client else ""
    device, cookie = network.join(wanted.code, client)
    did(request, f"was let in: may {ROLE_WORDS[device.role]}")
    request.state.who = Who(device=device.id, name=device.name, role=device.role)
    response.set_cookie(
        COOKIE, cookie, max_age=COOKIE_S, path="/", secure=network.encrypted, httponly=True, samesite="strict"
    )
    return _me(request)


@network_routes.post("/leave")
def leave(request: Request, response: Response) -> Me:
    """Be shut out by oneself: the tablet goes back into its drawer."""
    at = who(request)
    if at.device != HERE.device:
        _shut_out(devices.device(at.device))
    response.delete_cookie(COOKIE, path="/", httponly=True, samesite="strict")
    request.state.who = None
    return _me(request)


@network_routes.get("")
def get_network(request: Request) -> NetworkView:
    network: Network | None = request.app.state.network
    server = request.scope.get("server") or ("", 0)
    return NetworkView(
        me=_me(request),
        addresses=network.addresses(server[1] or 80) if network else (),
        encrypted=network.encrypted if network else False,
        devices=tuple(
            DeviceLine(device=d, words=ROLE_WORDS[d.role], seen_s_ago=network.seen_s_ago(d.id) if network else None)
            for d in devices.devices()
        ),
        roles={role: ROLE_WORDS[role] for role in ("look", "work", "move")},
        done=devices.done(),
    )


@network_routes.post("/codes", status_code=201)
def let_in(request: Request, wanted: NewCode) -> Invitation:
    """A code for one device, good for ten minutes. Only the serving machine gives it out."""
    network = _network(request)
    code, until = network.new_code(wanted.name, wanted.role)
    # Behind the #, so that it stands in no server's log.
    address = f"{base_of(request)}/join#{code}"
    qr = segno.make(address, error="m").svg_data_uri(scale=4, border=4, dark="#000", light="#fff")
    did(request, f"made a code for {wanted.name}: may {ROLE_WORDS[wanted.role]}")
    return Invitation(code=code, until=until, address=address, qr=qr)


@network_routes.put("/devices/{device_id}")
def keep_device(request: Request, device_id: DeviceId, wanted: KeepDevice) -> NetworkView:
    kept = devices.device(device_id)
    devices.keep_device(kept.model_copy(update={"name": wanted.name, "role": wanted.role}))
    did(request, f"{kept.name} may {ROLE_WORDS[wanted.role]} now")
    return get_network(request)


@network_routes.post("/devices/{device_id}/shut-out")
def shut_out(request: Request, device_id: DeviceId) -> NetworkView:
    """From now on: what is open on the device ends too."""
    kept = devices.device(device_id)
    _shut_out(kept)
    did(request, f"shut {kept.name} out")
    return get_network(request)


def _shut_out(kept: Device) -> None:
    if kept.shut_out_at is None:
        devices.keep_device(kept.model_copy(update={"shut_out_at": datetime.now(UTC)}))
