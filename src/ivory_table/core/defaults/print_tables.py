"""What the tables say of what is printed and how it is judged: one class a table."""

from typing import Literal

from ..value import Value


class Band(Value):
    grade: str
    key: int
    up_to: str
    word: str
    look: str


class Bead(Value):
    line_per_nozzle: float
    layer_per_nozzle: float
    starved_below: float
    squeezed_below: float
    ridged_below: float
    barely_to_d0: float
    parting_margin: float
    grade_sd: float
    slip: float
    caliper_sd_mm: float
    ridge_base: float
    ridge_most_mm: float
    light_mm: dict[str, float]
    target: dict[str, float]
    grades: tuple[Band, ...]


class Minutes(Value):
    proof: float
    offset: float
    knobs: float
    measure: float
    mesh: float
    tram: float
    shim: float
    clean: float
    settings: float
    failed: float
    at_last: float


class Judge(Value):
    shim_sheets_mm: tuple[float, ...]
    shim_below: float
    shim_gains: float
    done_at: float
    unseen_at: float
    leave_at: float
    gain: float
    unseen_gain: float
    rather_sound: float
    evidence_at: float
    repeats_at_most: int
    mesh_passed_over: int
    proofs_at_most: int
    scrape_mm: float
    scrape_p: float
    eye_scatter: float
    eye_ln_sd: float
    eye_least_ln_sd: float
    zone_sound_at: float
    zone_known_mm: float
    doubt_from: float
    trust_prior: float
    anew: float
    stretch_mm: float
    stretches: int
    feed_at: float
    feed_unknown_at: float
    feed_first: int
    cause_at: float
    also_at: float
    order_at: float
    bundle_at: float
    look_until: float
    minutes: Minutes


class Sign(Value):
    word: str
    group: str
    key: str
    bands: tuple[float, float, float, float, float, float, float]
    fails: float
    causes: dict[str, float] = {}


class Look(Value):
    """A look that tells of one cause without a print: how often it finds it, and how often it finds what is not there."""

    words: str
    found: str
    not_found: str
    minutes: float
    finds: float
    wrong: float


class Cause(Value):
    word: str
    share: float
    remedy: str
    minutes: float
    helps: float
    fails: float = 0.0
    fails_edge: float = 0.0
    #: Of the patch that is printed first alone.
    fails_first: float = 0.0
    flow: float = 0.0
    flow_sd: float = 0.0
    astray_mm: float = 0.0
    #: Its chance once somebody suspects it, where that is another one.
    suspected: float = 0.0
    #: So many times more often, by material.
    more: dict[str, float] = {}
    look: Look | None = None


class Fails(Value):
    grades: tuple[float, float, float, float, float, float, float]
    greasy: float
    greasy_fails: float
    marked_helps: float


class Feed(Value):
    spool_sd: float
    commanded_mm: float
    mark_mm: float
    mark_sd_mm: float
    within: float
    asked_mm: float
    said_at: float


class Measured(Value):
    habit: float
    least_habit: float
    few_promises: int
    few_marks: int
    caliper_common_mm: float
    least_caliper_common_mm: float
    short_sd_mm: float
    foot_sd_mm: float


class Caliper(Value):
    minutes: float
    each_minutes: float
    outcomes: int


class Recipe(Value):
    layers: tuple[float, ...]
    lines: tuple[float, ...]
    most_layer: float
    least_line_over_layer: float
    speed_mm_s: float
    slow_mm_s: float
    melt_share: float
    acceleration_mm_s2: float
    more_nozzle_c: float
    more_bed_c: float
    within_mm: float
    melt_mm3_s: dict[str, float]


class Placing(Value):
    raft_below: float
    cells: int
    draws: int
    apart_mm: float
    edge_mm: float
    heat_told_from: float
    most: int


class Layer(Value):
    checked_leaves: float
    signs: dict[str, Sign]
    fails: Fails
    causes: dict[str, Cause]
    feed: Feed
    measured: Measured
    caliper: Caliper
    recipe: Recipe
    placing: Placing


class Proof(Value):
    patch_mm: float
    margin_mm: float
    skirt_loops: int
    skirt_half_mm: float
    skirt_lines: int
    lap_mm: float
    strip_lines: int
    strip_every_mm: float
    ladder_step: float
    ladder_clear: float
    ladder_most: int
    ladder_least: int
    ladder_from_mm: float
    ladder_patch_mm: float
    ladder_gap_mm: float
    third_mm: float
    third_gap_mm: float
    heights_apart_share: float
    heights_known_mm: float
    heights_clear_sds: float
    look_s: float
    pair_c: float
    hotter_spares: tuple[str, ...]
    other_spares: tuple[str, ...]
    diameter_within_mm: float
    change_s: float
    skirt_gap_mm: float
    travel_mm_s: float
    first_layer_mm_s: float
    lift_mm: float
    park_mm: float
    acceleration_mm_s2: float
    warm_minutes: float
    tram_loops: int
    tram_inset_mm: float
    tram_corner_mm: float
    retract_mm: float


class HeldMaterial(Value):
    stiff_mpa: float
    shrinks: float
    grip_j_m2: float
    strength_mpa: float


class HoldDown(Value):
    factor_sd: float
    worth: float
    knock_n: float
    corner_power: float
    tall_mm: float
    brims_mm: tuple[float, ...]
    brim_reach_mm: float
    enclosed: float
    material: dict[str, HeldMaterial]


Holds = Literal["poorly", "well", "too_well"]


class Face(Value):
    """What a plate's face is made of."""

    name: str
    clean: str
    how: str
    tools: str
    right: str
    harm: str
    holds: dict[str, Holds]


class Coat(Value):
    """What may lie on a face."""

    name: str
    renew: str
    how: str
    tools: str
    right: str


class Faces(Value):
    release: str
    too_well_grip: float
    poorly_grip: float
    coat_more: dict[Holds, float]
    faces: dict[str, Face]
    coats: dict[str, Coat]


class JobCheck(Value):
    alike_c: float
    same_heat_c: float
    layer_share: float
    low_travel_mm: float
    thin: float
    thick: float
    quick: float
    corner_side_mm: float
    corner_deg: float
    least_brim_mm: float
    comes_off_told_at: float
    comes_off_warned_at: float
    worth_p: float
    worth_share: float
