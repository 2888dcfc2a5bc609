"""What is printed and hung up or filed: a machine's card, the record of a run."""

from datetime import UTC, datetime

from ivory_table.core.offset import convention
from ivory_table.core.words import signed
from ivory_table.desk.knowledge import plate_values
from ivory_table.paper.facts import Group, facts_page
from ivory_table.runs.doubts import Refused
from ivory_table.store.workshop import Workshop

from .drifting import expected

RULES = "Whoever works at it knows it and sees it; the rules of your workshop and the maker's come first."


def machine_card(workshop: Workshop, machine_id: str, base: str) -> bytes:
    """A5, to hang at the machine: how it is turned and told, its plates' values, when to look again."""
    machine = workshop.machine(machine_id)
    how = convention(machine.convention)
    values = plate_values(workshop, machine)
    plates = []
    for plate in (p for p in machine.plates if not p.retired):
        newest = max((v for v in values if v.plate_id == plate.id), key=lambda v: v.at, default=None)
        plates.append(
            (plate.name, "no value read back yet" if newest is None else f"{signed(newest.stored_mm, 3)} mm", ""
             if newest is None else f"{newest.at:%Y-%m-%d}")
        )  # fmt: skip
    groups: list[Group] = [
        ("Z offset", [
            (how.name, f"{signed(machine.stored_mm, 3)} mm"),
            ("What it means", how.rule),
            ("Step", f"{machine.z_step_mm:g} mm"),
        ]),
        ("Plates, the value of each, and since when", plates),
    ]  # fmt: skip
    if machine.screws:
        up = {1: "clockwise lifts", -1: "clockwise lowers"}
        groups.append(
            (f"Knobs, seen from above; {machine.screws[0].marks_per_turn} marks a turn", [
                (s.name, f"{up[s.sense]}{'' if s.sense_proved else ', not proved'}",
                 f"{s.mm_per_mark:.3f} mm a mark")
                for s in machine.screws
            ])
        )  # fmt: skip
    newest_run = next(iter(workshop.figures.summaries(machine_id, 1)), None)
    seen = expected(workshop, machine_id, newest_run.plate_id, datetime.now(UTC)) if newest_run else None
    if newest_run is not None:
        due = "not within four months" if seen is None or seen.due_at is None else f"{seen.due_at:%Y-%m-%d}"
        groups.append(
            ("Last run", [
                (f"{newest_run.last_at:%Y-%m-%d}, {newest_run.initials}", newest_run.words),
                ("Look again", due),
            ])
        )  # fmt: skip
    plate = machine.plates[0]
    size = f"{plate.width_mm:g} mm across" if plate.shape == "round" else f"{plate.width_mm:g} x {plate.depth_mm:g} mm"
    about = (
        f"{size}, nozzle {machine.nozzle_mm:g} mm. As of {datetime.now(UTC):%Y-%m-%d}; the code leads to its logbook."
    )
    return facts_page(machine.name, about, groups, address=f"{base}/machines/{machine_id}/logbook", note=RULES)


def record(workshop: Workshop, run_id: str, base: str) -> bytes:
    """A4, to file: what a run found and left, from the figures kept with it."""
    setup = workshop.run(run_id)
    kept = workshop.figures.summary(run_id)
    if kept is None:
        raise Refused("no_figures", "The figures of this run are not there yet. Open it once, then try again.")
    groups: list[Group] = [
        ("As found, and as left", [(line.name, line.before or "-", line.after or "-") for line in kept.record]),
        ("Stations", [(s.name, s.state, s.figure or "-") for s in kept.stations]),
        (
            "With",
            [
                ("Plate", kept.plate_name),
                (
                    "Filament",
                    f"{kept.filament_name}, plate {setup.filament.bed_c:g} °C, tip {setup.filament.nozzle_c:g} °C",
                ),
                ("Gauge", f"{setup.gauge.name}, {setup.gauge.thickness_mm:.2f} mm"),
                ("Nozzle", f"{setup.machine.nozzle_mm:g} mm"),
                ("Stored", f"{signed(kept.stored_mm, 3)} mm ({convention(setup.machine.convention).name})"),
            ],
        ),
    ]
    state = "Signed off" if kept.signed_off else "NOT SIGNED OFF: " + kept.words
    about = (
        f"Run of {kept.started_at:%Y-%m-%d %H:%M} UTC by {kept.initials}, last row {kept.last_at:%Y-%m-%d %H:%M} UTC, "
        f"{kept.seq} rows. {state}."
    )
    return facts_page(
        f"{kept.machine_name}: record of a run", about, groups, address=f"{base}/runs/{run_id}/record", paper="A4"
    )
