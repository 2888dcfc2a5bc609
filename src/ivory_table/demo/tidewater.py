"""Tidewater Instrument Repair prints sensor housings and gasket frames on four machines."""

from collections.abc import Callable, Sequence
from typing import Any

from ivory_table.core.gauge import Gauge
from ivory_table.core.plate import Beam, Filament, KeepOut, Layer, Machine, Nozzle, Person, Plate, Probe, Screw
from ivory_table.store.workshop import Workshop


def _corners(width: float, depth: float, inset: float) -> tuple[Screw, ...]:
    return (
        Screw(name="front left", x_mm=inset, y_mm=inset, travel_mm=6, preload_mm=3),
        Screw(name="front right", x_mm=width - inset, y_mm=inset, travel_mm=6, preload_mm=3),
        Screw(name="rear left", x_mm=inset, y_mm=depth - inset, travel_mm=6, preload_mm=3),
        Screw(name="rear right", x_mm=width - inset, y_mm=depth - inset, travel_mm=6, preload_mm=3),
    )


MACHINES = (
    Machine(
        id="heron",
        name="Heron",
        plates=(
            Plate(
                id="heron-steel",
                name="textured steel sheet",
                width_mm=244,
                depth_mm=236,
                layers=(Layer(name="spring steel", thickness_mm=0.8),),
                face="textured",
                keep_outs=(
                    KeepOut(name="front clip", x_min_mm=108, y_min_mm=0, x_max_mm=136, y_max_mm=9),
                    KeepOut(name="rear clip", x_min_mm=108, y_min_mm=227, x_max_mm=136, y_max_mm=236),
                ),
            ),
            Plate(
                id="heron-glass",
                name="glass with glue",
                width_mm=244,
                depth_mm=236,
                layers=(Layer(name="glass", thickness_mm=3.0), Layer(name="glue coat")),
                face="glass",
            ),
        ),
        screws=_corners(244, 236, 29),
        convention="stop_position",
        stored_mm=1.34,
        sign_proved=True,
        in_use=True,
        practice=True,
        manner="harbour",
    ),
    Machine(
        id="kestrel",
        name="Kestrel",
        plates=(
            Plate(id="kestrel-smooth", name="smooth spring sheet", width_mm=318, depth_mm=302, face="smooth"),
            Plate(id="kestrel-glass", name="glass", width_mm=318, depth_mm=302, face="glass"),
        ),
        screws=_corners(318, 302, 36),
        probe=Probe(kind="touch", x_offset_mm=-41, y_offset_mm=-9, sd_mm=0.004),
        convention="probe_offset",
        stored_mm=-1.92,
        sign_proved=True,
        in_use=True,
        practice=True,
        manner="harbour",
    ),
    Machine(
        id="wren",
        name="Wren",
        plates=(Plate(id="wren-sheet", name="coated sheet", width_mm=172, depth_mm=172, face="smooth"),),
        screws=(
            Screw(name="front left", x_mm=18, y_mm=20, pitch_mm=0.5),
            Screw(name="front right", x_mm=154, y_mm=20, pitch_mm=0.5),
            Screw(name="rear", x_mm=86, y_mm=156, pitch_mm=0.5),
        ),
        convention="home_offset",
        stored_mm=0.14,
        manner="lantern",
        sign_proved=True,
        in_use=True,
        practice=True,
    ),
    Machine(
        id="bittern",
        name="Bittern",
        plates=(Plate(id="bittern-disc", name="round glass", shape="round", width_mm=262, depth_mm=262, face="glass"),),
        beam=Beam(left_mm=-160, right_mm=160),
        probe=Probe(kind="inductive", x_offset_mm=24, y_offset_mm=0, sd_mm=0.008, heat_sensitive=True),
        manner="lantern",
        convention="live_only",
        stored_mm=0.0,
        seen_from="below",
        relative_extrusion=False,
        sign_proved=True,
        in_use=True,
        practice=True,
    ),
)

GAUGES = (
    Gauge(id="copy-paper", name="copy paper", stack_mm=1.6, stack_sheets=16),
    Gauge(id="sticky-note", name="sticky note", kind="note", thickness_mm=0.08, measured=False),
    Gauge(id="feeler-010", name="feeler 0.10", kind="feeler", thickness_mm=0.1, measured=True),
)

FILAMENTS = (
    Filament(id="petg-grey", name="PETG grey", material="PETG", bed_c=78, nozzle_c=238, colour="#7d8286"),
    Filament(id="pla-white", name="PLA white", material="PLA", bed_c=57, nozzle_c=206, colour="#e4e1d8"),
    Filament(
        id="tpu-gasket",
        name="TPU gasket black",
        material="TPU",
        bed_c=42,
        nozzle_c=223,
        colour="#2f3033",
        clarity="opaque",
    ),
)


NOZZLES = (
    Nozzle(id="brass-04", name="brass 0.4", diameter_mm=0.4),
    Nozzle(id="steel-06", name="hardened 0.6", diameter_mm=0.6),
)

PEOPLE = (
    Person(id="mk", name="Mika", initials="mk"),
    Person(id="jo", name="Jo", initials="jo"),
)


def furnish(workshop: Workshop) -> None:
    """Put the practice machines and what they need on the shelves; what is there already stays as it is."""
    shelves: tuple[tuple[Sequence[Any], Sequence[Any], Callable[[Any], object]], ...] = (
        (MACHINES, workshop.machines(), workshop.keep_machine),
        (GAUGES, workshop.gauges(), workshop.keep_gauge),
        (FILAMENTS, workshop.filaments(), workshop.keep_filament),
        (NOZZLES, workshop.nozzles(), workshop.keep_nozzle),
        (PEOPLE, workshop.people(), workshop.keep_person),
    )
    for wanted, here, keep in shelves:
        known = {thing.id for thing in here}
        for thing in wanted:
            if thing.id not in known:
                keep(thing)
