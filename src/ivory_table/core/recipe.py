"""First-layer settings, and what each buys: how many hundredths of gap it forgives, from the bead model."""

from scipy.special import ndtr

from .bead import Bead
from .defaults import LAYER
from .face import Grip
from .value import Value


class Recipe(Value):
    """A first layer's settings, in plain units, with what they forgive."""

    name: str
    why: str
    layer_mm: float
    line_mm: float
    flow: float
    speed_mm_s: float
    acceleration_mm_s2: float
    nozzle_c: float
    bed_c: float
    fan: float
    #: The gap that is aimed at, and by how much it may be off to either side and the layer be sound still.
    gap_mm: float
    forgives_mm: float
    #: mm^3 of plastic a second, and how much of what the hot end melts that is.
    melts_mm3_s: float
    melt_share: float
    #: The chance that every zone is sound, with what is left of unevenness.
    p_all_sound: float


def forgives(bead: Bead) -> tuple[float, float]:
    """The middle of the gaps at which a layer is sound, mm, and by how much the gap may be off to either side."""
    low, high = bead.bands_mm()["sound"]
    return (low + high) / 2, (high - low) / 2


def all_sound(forgives_mm: float, sd_mm: float, zones: int) -> float:
    """The chance that so many zones, each off by a normal error of one sd, are all within what is forgiven."""
    if sd_mm <= 0:
        return 1.0
    return float((2 * ndtr(forgives_mm / sd_mm) - 1) ** zones)


def thicker_layer(bead: Bead, nozzle_mm: float) -> Bead | None:
    """The same line, as high as it forgives most; None where no higher layer does."""
    say = LAYER.recipe
    possible = [
        Bead(bead.line_mm, layer * nozzle_mm)
        for layer in say.layers
        if layer <= say.most_layer and bead.line_mm >= say.least_line_over_layer * layer * nozzle_mm
    ]
    best = max(possible, key=lambda b: forgives(b)[1], default=bead)
    return best if forgives(best)[1] > forgives(bead)[1] + say.within_mm else None


def forgiving_layers(bead: Bead, nozzle_mm: float) -> tuple[Bead, ...]:
    """First layers that forgive more than this one, the smallest change first: thicker, then thicker with lines to match."""
    thicker, widest = thicker_layer(bead, nozzle_mm), widest_layer(nozzle_mm)
    found = [thicker] if thicker else []
    if forgives(widest)[1] > forgives(thicker or bead)[1] + LAYER.recipe.within_mm:
        found.append(widest)
    return tuple(found)


def widest_layer(nozzle_mm: float) -> Bead:
    """Of all layers and lines this nozzle can lay, the one that forgives most."""
    say = LAYER.recipe
    both = [
        Bead(line * nozzle_mm, layer * nozzle_mm)
        for line in say.lines
        for layer in say.layers
        if layer <= say.most_layer and line >= say.least_line_over_layer * layer
    ]
    return max(both, key=lambda b: forgives(b)[1])


def recipes(
    nozzle_mm: float,
    material: str,
    nozzle_c: float,
    bed_c: float,
    uneven_mm: float,
    zones: int = 5,
    chosen: Bead | None = None,
    grip: Grip | None = None,
) -> tuple[Recipe, ...]:
    """Settings as they are now and others that forgive more, the most forgiving last.

    `chosen`: the first layer that is printed now, where it is not the usual one. `grip`: how the plastic holds on this face;
    what holds too well is not laid hotter. `uneven_mm`: one sd of what is left between zones and of what is not known. Limits: a layer at most `most_layer` of the
    nozzle, a line wide enough for it, and no more plastic than the hot end melts; else it is laid more slowly.
    """
    say, usual = LAYER.recipe, Bead.usual(nozzle_mm)
    now = chosen or usual

    def made_of(name: str, why: str, bead: Bead) -> Recipe:
        return _made(name, why, bead, nozzle_mm, material, nozzle_c, bed_c, uneven_mm, zones)

    made = [made_of("as it is proofed now", "", now)]
    if now != usual:
        made.append(made_of("the usual one", "as this nozzle prints where nothing else is chosen", usual))
    for bead in forgiving_layers(now, nozzle_mm):
        if bead.line_mm > now.line_mm:
            why = "the line is as wide as this layer needs, so that it is pressed on and not dropped"
            made.append(made_of("thicker, with its line", why, bead))
        else:
            why = "a higher layer forgives in proportion: lines part and ridges rise later"
            made.append(made_of("a thicker first layer", why, bead))
    if grip is not None and grip.holds == "too_well":
        return tuple(made)
    last = max(made, key=lambda r: r.forgives_mm)
    speed = min(say.slow_mm_s, last.speed_mm_s)
    hotter = last.model_copy(
        update={
            "name": "and hotter, for what will not hold",
            "why": "heat does not widen the band of sound gaps; it helps what is laid there to hold. Not more: the foot spreads",
            "nozzle_c": nozzle_c + say.more_nozzle_c,
            "bed_c": bed_c + say.more_bed_c,
            "speed_mm_s": speed,
            "melts_mm3_s": round(last.melts_mm3_s * speed / last.speed_mm_s, 2),
            "melt_share": last.melt_share * speed / last.speed_mm_s,
        }
    )
    return (*made, hotter)


def _made(
    name: str,
    why: str,
    bead: Bead,
    nozzle_mm: float,
    material: str,
    nozzle_c: float,
    bed_c: float,
    uneven_mm: float,
    zones: int,
) -> Recipe:
    say = LAYER.recipe
    melts = say.melt_mm3_s[material] * nozzle_mm / 0.4
    speed = min(say.speed_mm_s, say.melt_share * melts / bead.area_mm2)
    gap, half = forgives(bead)
    return Recipe(
        name=name,
        why=why,
        layer_mm=round(bead.layer_mm, 3),
        line_mm=round(bead.line_mm, 3),
        flow=bead.flow,
        speed_mm_s=round(speed, 1),
        acceleration_mm_s2=say.acceleration_mm_s2,
        nozzle_c=nozzle_c,
        bed_c=bed_c,
        fan=0.0,
        gap_mm=round(gap, 3),
        forgives_mm=round(half, 4),
        melts_mm3_s=round(speed * bead.area_mm2, 2),
        melt_share=speed * bead.area_mm2 / melts,
        p_all_sound=all_sound(half, uneven_mm, zones),
    )
