"""How the plate moves as it warms: the hold, and the thermal study."""

import numpy as np

from ivory_table.core.defaults import HEAT
from ivory_table.core.thermal import CENTRE, Settling, moves, settling, still_range
from ivory_table.core.value import Value
from ivory_table.runs.run import OpenRun


class Curve(Value):
    """One place of the thermal study: temperatures, rising, and heights."""

    place: str
    bed_c: tuple[float, ...]
    height_mm: tuple[float, ...]


class PlaceToRead(Value):
    place: str
    x_mm: float
    y_mm: float


class ThermalView(Value):
    """The thermal study of this plate: what was read, what it says, and where to read next."""

    curves: tuple[Curve, ...]
    places: tuple[PlaceToRead, ...]
    still_c: tuple[float, float] | None
    settling: Settling | None
    settled_after_min: float | None
    #: How far the middle still moves from now on, where a hold is noted.
    still_to_come_mm: float | None
    #: What those who tram below print temperature get added, by place, mm.
    correction: dict[str, float]
    words: tuple[str, ...]


def hold_words(run: OpenRun, thermal: ThermalView, minutes: float | None) -> str:
    if run.state.school == "cold":
        return "Trammed cold: nothing to hold."
    if thermal.settled_after_min is None:
        return "No thermal study tells when this plate has settled: hold it for as long as you usually do."
    if minutes is None:
        return f"By its thermal study this plate settles in {thermal.settled_after_min:.0f} min."
    left = thermal.still_to_come_mm or 0.0
    if abs(left) <= HEAT.still_mm:
        return "Settled: the middle moves by less than 0.01 mm from now on."
    more = thermal.settled_after_min - minutes
    return f"The middle still rises by {left:.2f} mm; settled in {max(more, 1):.0f} min."


def thermal_view(run: OpenRun, held: float | None) -> ThermalView:
    state, setup = run.state, run.setup
    cx, cy = setup.plate.centre
    places = [PlaceToRead(place=CENTRE, x_mm=cx, y_mm=cy)]
    places += [PlaceToRead(place=s.name, x_mm=s.x_mm, y_mm=s.y_mm) for s in state.screws]
    study = state.study
    if study is None:
        words = (
            *((state.warp_unknown,) if state.warp_unknown else ()),
            "No thermal study of this plate yet. Read a dial at the centre and the screws, cold and at each step of heat.",
        )
        return ThermalView(
            curves=(), places=tuple(places), still_c=None, settling=None, settled_after_min=None,
            still_to_come_mm=None, correction={}, words=words,
        )  # fmt: skip
    found = settling(study)
    still = still_range(study)
    words_list: list[str] = []
    if still is not None:
        words_list.append(f"From {still[0]:.0f} to {still[1]:.0f} °C nothing moves by more than {HEAT.still_mm:g} mm.")
    correction: dict[str, float] = {}
    if state.school != "hot":
        if problem := state.warp_unknown:
            words_list.append(problem)
        else:
            at = np.array([(p.x_mm, p.y_mm) for p in places])
            rise = state.warp_mm(at)
            correction = {p.place: round(float(v), 4) for p, v in zip(places, rise, strict=True)}
            words_list.append(
                f"Trammed at {state.bed_at_tram_c:.0f} °C for {setup.filament.bed_c:.0f} °C: each reading is corrected by this."
            )
    else:
        for place in study.places:
            try:
                rise_mm, sd = moves(study, place, HEAT.cold_c, setup.filament.bed_c)
            except ValueError:
                continue
            words_list.append(
                f"{place}: {rise_mm:+.3f} ± {sd:.3f} mm from {HEAT.cold_c:.0f} to {setup.filament.bed_c:.0f} °C".replace(
                    "-", "−"
                )
            )
    curves = []
    for place in study.places:
        t, h = study.settled(place)
        curves.append(Curve(place=place, bed_c=tuple(t.tolist()), height_mm=tuple(h.tolist())))
    return ThermalView(
        curves=tuple(curves),
        places=tuple(places),
        still_c=still,
        settling=found,
        settled_after_min=found.settled_after_min if found else None,
        still_to_come_mm=found.still_to_come_mm(max(held, 0.0)) if found and held is not None else None,
        correction=correction,
        words=tuple(words_list),
    )
