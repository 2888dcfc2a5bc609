"""An action as the station says it: with its words, its value to store or its turns, and the rows that are kept once it was done."""

from typing import Annotated

import numpy as np
from pydantic import Field

from ivory_table.core.action import Action
from ivory_table.core.defaults import HEAT, JUDGE, LAYER, PROOF
from ivory_table.core.face import grip_on
from ivory_table.core.mesh import neighbour_of
from ivory_table.core.odds import Odds
from ivory_table.core.offset import StoredChange, convention, stored_after
from ivory_table.core.placing import SoundArea, grid_of, largest_sound, share_sound
from ivory_table.core.plate import Filament
from ivory_table.core.proof import ProofPlan
from ivory_table.core.value import Array, StationName, Value
from ivory_table.core.words import signed
from ivory_table.runs.judging import may_prime, next_proof
from ivory_table.runs.proof import ProofRun, Wanted
from ivory_table.runs.run import OpenRun, once_per_state
from ivory_table.runs.state import RunState
from ivory_table.stations.asked import prepared_plate
from ivory_table.stations.first_layer.entries import CauseMended, LayerChosen, LeftFor, ProofStarted, ZoneCleaned
from ivory_table.stations.sheet import Turn
from ivory_table.stations.stored.entries import OffsetSet
from ivory_table.stations.turned import TurnedAll

#: From this share of the plate on nobody need look for where it is not sound.
_SHARE_PLAIN = 0.9

Done = Annotated[
    ZoneCleaned | CauseMended | TurnedAll | OffsetSet | LayerChosen | ProofStarted | LeftFor,
    Field(discriminator="kind"),
]


class Printing(Value):
    """What whoever prints a proof must know of it."""

    #: Whether the shapes alone say what is printed, so that a job prepared elsewhere will do.
    is_shape: bool
    #: What its program does before anything is laid.
    begins: str
    words: str = ""
    caution: str = ""


class NextStep(Value):
    """An action with what it needs to be done: the new stored value, or the turns."""

    action: Action
    words: str
    stored: StoredChange | None = None
    turns: tuple[Turn, ...] = ()
    #: What is kept when it was done, in this order; and where it leads, when it is done elsewhere.
    keeps: tuple[Done, ...] = ()
    leads_to: StationName | None = None
    #: What the key that does it says.
    does: str
    #: The mesh point to measure again and the neighbour it is measured against, as (column, row).
    mesh_point: tuple[int, int] | None = None
    neighbour: tuple[int, int] | None = None
    #: Of the proof that it prints, where it prints one.
    printing: Printing | None = None


def cells_believed(state: RunState) -> tuple[Array, Array]:
    """Places over the whole plate (ny, nx, 2), mm, and what the machine's mesh lifts there (ny, nx)."""
    cells = grid_of(state.setup.plate)
    return cells, state.machine_believes(cells.reshape(-1, 2)).reshape(cells.shape[:2])


@once_per_state
def area_left(run: OpenRun) -> SoundArea | None:
    """The largest part of the plate that is likely enough sound all over, by what is believed with the marks."""
    state, plate, wanted = run.state.with_marks(), run.setup.plate, run.state.wanted
    # What else may keep parts from holding is everywhere the same.
    holds = Odds.of(wanted.field).stays * state.eye.trust
    if holds <= JUDGE.done_at:
        return None
    cells, believes = cells_believed(state)
    found = largest_sound(state.belief, plate, wanted.plan.bead, believes, cells, JUDGE.done_at / holds)
    return found and found.model_copy(update={"p": round(found.p * holds, 3)})


@once_per_state
def whole_plate(run: OpenRun) -> str:
    """What the zones do not say: how much of all of the plate is expected to be sound."""
    state, plate, wanted = run.state.with_marks(), run.setup.plate, run.state.wanted
    cells, believes = cells_believed(state)
    share = share_sound(state.belief, plate, wanted.plan.bead, believes, cells) * Odds.of(wanted.field).stays
    count = len(wanted.plan.zones)
    words = f"The {count} zones are what was looked at. Of the whole plate about {share:.0%} is expected to be sound"
    return f"{words}; the sheet shows where it may not be." if share < _SHARE_PLAIN else f"{words}."


def printing_of(run: OpenRun, laid: ProofPlan) -> Printing:
    """What is to be known of this proof before it is printed."""
    state = run.state
    switches = state.mesh_on and run.manner.can("mesh_on")
    begins = f"Heats, homes, {'switches the mesh on, ' if switches else ''}primes."
    if state.mesh_on and not switches:
        begins += " The mesh must be on then: see to it on the machine's own screen."
    how = convention(state.convention_id, run.manner)
    if not how.stores and not how.set and state.stored_mm:
        begins += (
            f" It keeps no height: while the tip heats, adjust it by {signed(state.stored_mm, 3)} mm on its own screen."
        )
    lowest = laid.layer_mm + float(laid.away_mm.min())
    words, caution = _order_words(state, laid), ""
    if laid.kind == "three_heights":
        words = (
            f"Each zone in three patches: the left one {laid.layer_mm - lowest:.3f} mm closer than the nozzle runs now, the middle one "
            "as it runs, the right one as much further. Where the left one is rough and the right one parts, the zone lies about "
            "right. Judge each patch by itself, as it looks."
        )
    if laid.kind == "ladder":
        limit = (
            " A machine that refuses heights below 0 needs its soft limit opened first, at Z offset."
            if lowest < 0
            else ""
        )
        caution = (
            f"Each step is laid nearer to the plate than the one before, down to z {signed(lowest)}. Stay beside it, a hand at the "
            f"stop: end it at the first step that holds and closes, and tell which that was.{limit}"
        )
    if laid.kind == "pair":
        words = (
            f"Three patches as usual, and beside each one {PROOF.pair_c:.0f} °C hotter at the same height: "
            "what differs is the tip's temperature alone."
        )
    if laid.other is not None:
        words, caution = _change_words(run, laid, laid.other)
    return Printing(is_shape=laid.is_shape, begins=begins, words=words, caution=caution)


def _change_words(run: OpenRun, laid: ProofPlan, other: Filament) -> tuple[str, str]:
    """What two filaments side by side tell, how one is changed for the other, and what to beware of."""
    usual = run.setup.filament
    waits = run.manner.can("pause") or run.manner.can("dwell")
    stop = (
        "The program lifts the tip clear and waits while you change it"
        if waits
        else "Stop the machine by hand where the program says to change it"
    )
    words = (
        f"Three patches of {usual.name}, and beside each one of {other.name} at the same height. {stop}: push until it comes clean, "
        f"and wipe the tip. Load {usual.name} again afterwards."
    )
    if abs(other.bed_c - laid.bed_c) > HEAT.within_c:
        words += (
            f" The plate stays at {laid.bed_c:.0f} °C, and {other.name} wants {other.bed_c:.0f} °C: where it does not hold, "
            "that tells nothing."
        )
    hottest = max(laid.nozzle_c, other.nozzle_c)
    caution = f"The tip is at {hottest:.0f} °C while you change it: do not touch it, air the room."
    grip = grip_on(prepared_plate(run), other.material)
    if grip is not None and grip.holds == "too_well":
        caution += f" {grip.words}."
    return words, caution


def _order_words(state: RunState, laid: ProofPlan) -> str:
    """Why the patches are laid in another order than those before; empty where they are not."""
    before = state.proofs[-1].plan.zones if state.proofs else ()
    if laid.kind != "patches" or not set(laid.zones) <= set(before) or before[0] not in laid.zones[1:]:
        return ""
    return (
        f"Begun at {laid.zones[0].name} this time: if what is laid first is bad again, the tip still primes; "
        f"if {before[0].name} is, it is the place."
    )


def cleaned_alone(state: RunState) -> ProofPlan | None:
    """The cleaned zones as a proof of their own, where the others were judged and all share nothing that was mended.

    Where the first one may have been the tip's doing, another is laid before it.
    """
    proof = state.proofs[-1]
    others = [k for k in range(len(proof.plan.zones)) if k not in proof.cleaned]
    if proof.mended or not proof.cleaned or not others or proof.plan.kind != "patches":
        return None
    if any(k not in proof.marks for k in others):
        return None
    before = others[-1:] if 0 in proof.cleaned and may_prime(state) else []
    return proof.plan.only((*before, *sorted(proof.cleaned)))


def mesh_point_at(state: RunState, laid: ProofPlan, zone: int) -> tuple[int, int] | None:
    """(column, row) of the kept mesh's point nearest to a zone."""
    if state.mesh is None:
        return None
    grid, at = state.mesh.grid, laid.zones[zone]
    column = int(np.argmin(np.abs(np.array(grid.xs_mm) - at.x_mm)))
    return column, int(np.argmin(np.abs(np.array(grid.ys_mm) - at.y_mm)))


def as_steps(run: OpenRun, actions: tuple[Action, ...], wanted: Wanted) -> tuple[NextStep, ...]:
    """The actions, in their order, each as the station says it."""
    machine, state = run.setup.machine, run.state
    how = convention(state.convention_id, run.manner)
    zones, proof = wanted.plan.zones, state.proofs[-1]
    alone = cleaned_alone(state)
    out = []
    for action in actions:
        stored: StoredChange | None = None
        turns: tuple[Turn, ...] = ()
        if action.shift_mm is not None:
            stored = stored_after(state.stored_mm, action.shift_mm, how, machine.z_step_mm)
        if action.kind == "knobs" and action.marks is not None:
            turns = tuple(Turn.of(s, m) for s, m in zip(state.screws, action.marks, strict=True))
        named = proof.plan.zones if action.kind == "caliper" else zones
        zone = named[action.zone].name if action.zone is not None else ""
        remedies = [LAYER.causes[name].remedy for name in action.causes]
        remedy = "; ".join([*remedies[:1], *(r[0].lower() + r[1:] for r in remedies[1:])])
        words = {
            "done": "Every zone is sound." + ("" if state.readback_due else " Sign off."),
            "offset": f"Bring the nozzle {stored.words}." if stored else "",
            "knobs": f"Turn these knobs, then bring the nozzle {stored.words}." if stored else "Turn these knobs.",
            "mesh": "Measure the mesh anew." if state.mesh_on else "Measure a mesh and use it.",
            "tram": "Tram the plate before more of it is printed over.",
            "measure": f"Measure the mesh point at {zone} again, beside a neighbour.",
            "clean": f"Clean {' and '.join(zones[k].name for k in action.clean) or zone}, do not change the height.",
            "print_again": "Print the same proof again.",
            "remedy": f"{remedy}. Do not change the height.",
            "feed": "Measure how much filament is fed.",
            "caliper": f"Measure with a caliper: {', '.join(proof.plan.zones[k].name for k in action.measure)}.",
            "patches": "Print the patches, to see the whole plate.",
            "ladder": "Go on with the ladder from where it was stopped."
            if proof.marks and proof.cut_off and all(m.open for m in proof.marks.values())
            else "Print a ladder: patches that come closer step by step.",
            "shim": "Lay shims under the low places: the plan is at Tram.",
            "wait_heat": f"Let the plate stand for {max(action.minutes - JUDGE.minutes.proof, 1):.0f} minutes more, then print again.",
            "stop_here": "Stop here: it is good enough for parts that lie where the plate is sound.",
            "settings": _layer_words(action, stored),
        }[action.kind]
        if (
            action.kind == "print_again"
            and alone is None
            and proof.plan.kind != "three_heights"
            and state.three_heights is not None
        ):
            words = "Print each zone at three heights: which of them holds tells more than the same again."
        if state.sound_unseen is not None:
            done = action.kind == "done"
            words = (
                "Nothing more to print: what was changed leaves every zone sound."
                if done
                else "Print once more, to see it."
            )
        if action.leaves:
            words = f"Leave it: every zone is sound with {action.p_all_sound:.0%}, and no move is expected to better that plainly."
        leads_to, does = end_of(state) if action.kind == "done" else (LEADS_TO.get(action.kind), DOES[action.kind])
        if leads_to == "offset":
            words = f"{words} Read the stored value back before you sign off."
        if action.kind == "print_again" and alone is not None:
            words = f"Print {' and '.join(z.name for z in alone.zones)} again, alone."
        keeps = _keeps(run, action, stored, turns, wanted, alone)
        prints = proof_begun_by(keeps)
        printing = printing_of(run, prints) if prints else None
        if action.kind in ("offset", "knobs"):
            first = [f"clean {' and '.join(zones[k].name for k in action.clean)}"] if action.clean else []
            first += [remedy[0].lower() + remedy[1:]] if remedy else []
            if first:
                both = ", and ".join(first)
                words = f"{both[0].upper()}{both[1:]}, and in the same go: {words[0].lower()}{words[1:]}"
        point = neighbour = None
        if action.kind == "measure" and action.zone is not None and state.mesh is not None:
            point = mesh_point_at(state, wanted.plan, action.zone)
            neighbour = neighbour_of(state.mesh, *point) if point else None
        out.append(
            NextStep(
                action=action,
                words=words,
                stored=stored,
                turns=turns,
                keeps=keeps,
                leads_to=leads_to,
                does=does,
                mesh_point=point,
                neighbour=neighbour,
                printing=printing,
            )
        )
    return tuple(out)


def end_of(state: RunState) -> tuple[StationName, str]:
    """Where a run goes that is done, and what the key says: to Sign off, or first to the readback that it would ask for."""
    return ("offset", "Read it back at Z offset") if state.readback_due else ("sign_off", "Go to Sign off")


#: Steps that are done at another station.
LEADS_TO: dict[str, StationName] = {
    "mesh": "mesh",
    "measure": "mesh",
    "tram": "tram",
    "shim": "tram",
    # By forms of its own, beside the advice.
    "feed": "first_layer",
    "caliper": "first_layer",
}
DOES = {
    "offset": "Sent, set it",
    "knobs": "Turned",
    "mesh": "Go to Mesh",
    "tram": "Go to Tram",
    "measure": "Go to Mesh",
    "clean": "Cleaned",
    "print_again": "Printed again",
    "remedy": "That is done",
    "feed": "Measure the feed",
    "caliper": "Type what it says",
    "patches": "Printed",
    "ladder": "Printed",
    "settings": "It is set so",
    "shim": "Go to Tram",
    "wait_heat": "Waited, and printed again",
    "stop_here": "Leave it so",
}


def _keeps(
    run: OpenRun,
    action: Action,
    stored: StoredChange | None,
    turns: tuple[Turn, ...],
    wanted: Wanted,
    alone: ProofPlan | None,
) -> tuple[Done, ...]:
    """The rows of a step that was done, each of its own: cleaned, mended, turned, set."""
    proof = run.state.proofs[-1]
    if action.kind in ("print_again", "wait_heat"):
        return (ProofStarted(proof=alone or next_proof(run.state, "advised")),)
    if action.kind in ("patches", "ladder"):
        return (ProofStarted(proof=next_proof(run.state, "ladder") if action.kind == "ladder" else wanted.plan),)
    if action.kind == "stop_here":
        area = area_left(run)
        return () if area is None else (LeftFor(area=area),)
    cleaned = tuple(ZoneCleaned(zone=zone) for zone in _on_newest(proof, wanted, action.clean))
    mended = tuple(CauseMended(cause=name) for name in action.causes)
    if action.kind == "clean":
        return cleaned
    if action.kind == "remedy":
        return (*cleaned, *mended)
    offset = (OffsetSet(stored_mm=stored.new_mm),) if stored else ()
    if action.kind == "settings" and action.layer is not None:
        return (*offset, LayerChosen(layer_mm=action.layer.layer_mm, line_mm=action.layer.line_mm))
    if action.kind not in ("offset", "knobs"):
        return ()
    turned = (TurnedAll(marks=tuple(t.marks for t in turns)),) if action.kind == "knobs" else ()
    return (*cleaned, *mended, *turned, *offset)


def proof_begun_by(rows: tuple[Done, ...]) -> ProofPlan | None:
    """The proof that is printed where these rows are kept; None where none is."""
    return next((row.proof for row in rows if isinstance(row, ProofStarted)), None)


def _layer_words(action: Action, stored: StoredChange | None) -> str:
    if action.layer is None:
        return ""
    wider = f" and lines {action.layer.line_mm:.2f} mm wide" if action.layer.wider else ""
    nozzle = f", the nozzle {stored.words}" if stored else ""
    return f"Print the parts with a first layer of {action.layer.layer_mm:.2f} mm{wider}{nozzle}."


def _on_newest(proof: ProofRun, wanted: Wanted, zones: tuple[int, ...]) -> list[int]:
    """The same places as zones of the newest proof."""
    places, wanted_places = proof.plan.zone_places, wanted.plan.zone_places
    return [places.index(wanted_places[k]) for k in zones if wanted_places[k] in places]
