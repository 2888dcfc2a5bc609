"""The checks and cautions that are for this machine, this plate and what was changed: asked and shown at its stations."""

from typing import Any

from ivory_table.core.defaults import PREPARE
from ivory_table.core.face import Grip, coat_of, face_of, grip_on
from ivory_table.core.plate import Plate
from ivory_table.core.setup import RunSetup
from ivory_table.core.value import StationName, Value
from ivory_table.runs.doubts import Refused
from ivory_table.runs.run import OpenRun


class Caution(Value):
    id: str
    text: str
    seen: bool


def fits(needs: str, setup: RunSetup) -> bool:
    """Whether a check or caution is for this machine, plate and filament."""
    machine, plate = setup.machine, setup.plate
    face, grip = face_of(plate), grip_on(plate, setup.filament.material)
    return {
        "always": True,
        "coated": plate.coated is not None,
        "not_coated": plate.coated is None,
        "isopropyl": plate.coated is None and (face is None or "isopropyl" in face.tools),
        "holds_too_well": grip is not None and grip.holds == "too_well",
        "holds_poorly": grip is not None and grip.holds == "poorly",
        "keep_outs": bool(plate.keep_outs),
        "screws": bool(machine.screws),
        "no_screws": not machine.screws,
        "probe": machine.probe is not None,
        "live_only": machine.convention == "live_only",
    }[needs]


def cautions(run: OpenRun, station: StationName) -> tuple[Caution, ...]:
    rows: list[dict[str, Any]] = PREPARE["cautions"]
    return tuple(
        Caution(id=c["id"], text=_for_this_plate(c, run.setup)["text"], seen=c["id"] in run.state.cautions)
        for c in rows
        if c["station"] == station
        and fits(c["needs"], run.setup)
        and ("only_after" not in c or set(run.state.changes) & set(c["only_after"]))
        and "done" not in [run.state.checks.get(check) for check in c.get("unless_done", ())]
    )


def checks_for(run: OpenRun) -> tuple[dict[str, Any], ...]:
    """The checks for this machine, plate, and what changed since its last run."""
    changes = set(run.state.changes)
    return tuple(
        _for_this_plate(c, run.setup)
        for c in PREPARE["checks"]
        if fits(c["needs"], run.setup) and (not c["only_after"] or changes & set(c["only_after"]))
    )


def _for_this_plate(row: dict[str, Any], setup: RunSetup) -> dict[str, Any]:
    """A check or caution in the words of this plate's face, its coat and this plastic, where somebody has said what they are."""
    face, coat, grip = face_of(setup.plate), coat_of(setup.plate), grip_on(setup.plate, setup.filament.material)
    if row["id"] == "plate_clean" and face is None:
        return row | {"right": f"{row['right']} Say in set-up what its face is made of, and this is told for it."}
    if row["id"] == "plate_clean" and face is not None:
        return row | {"text": f"Plate clean: {face.clean}", "why": f"{row['why']} {face.how}", "right": face.right}
    if row["id"] == "plate_refreshed" and coat is not None:
        return row | {
            "text": f"{coat.name.capitalize()} even again: {coat.renew}",
            "why": coat.how,
            "right": coat.right,
        }
    if grip is None:
        return row
    return row | {"text": row["text"].format(what=grip.what, words=grip.words)}


def prepared_plate(run: OpenRun) -> Plate:
    """The plate with the coat that was laid in this run, where one was."""
    plate, done = run.setup.plate, run.state.checks
    laid = "done" in (done.get("release_layer"), done.get("coat_for_grip"))
    return plate.model_copy(update={"coat": "glue"}) if laid else plate


def grip_here(run: OpenRun) -> Grip | None:
    """How this plastic holds on the plate as it was prepared."""
    return grip_on(prepared_plate(run), run.setup.filament.material)


def refuse_open_limit(run: OpenRun, field: str) -> None:
    """Raise Refused while the machine's soft limit stands open: the next slip would go into the plate."""
    if run.state.limit_open_mm:
        raise Refused(
            "limit_open",
            f"The soft limit is open by {run.state.limit_open_mm:g} mm below zero. Close it at the Z offset first: until then "
            "nothing stops the tip above the plate.",
            field,
        )
