"""The starting values, read once from the tables beside this file and validated."""

import tomllib
from importlib.resources import files
from typing import Any, Literal

from ..value import Value


class _FeelMethod(Value):
    cuts_mm: tuple[float, float, float, float]
    scatter_mm: float
    scatter_ln_sd: float


class _Feel(Value):
    press_n: dict[Literal["slide", "push", "clip"], float]
    methods: dict[str, _FeelMethod]
    cuts_mm: tuple[float, float, float, float]
    scatter_mm: float
    scatter_ln_sd: float
    past_sd_mm: float
    spacing_ln_sd: float
    gives_way_from_mm: float
    bias_sd_mm: float
    unmeasured_sd_mm: float


class _Tram(Value):
    beam_level_mm: float
    walk_rocks: float
    tol_share_of_layer: float
    done_at: float
    hand_floor_mm: float
    hand_share: float
    knob_prior_sd_mm: float
    common_prior_sd_mm: float
    form_prior_sd_mm: float
    local_sd_mm: float
    local_length: float
    extrusion_prior_sd: float
    probe_zero_sd_mm: float
    hypotheses: int
    rechoose_rounds: int
    rechoose_below: float
    plate_poisson: float
    counts_tell: int
    answer_sd: float
    answer_ln_sd: float
    answer_bent: float
    answer_back: float
    lam_median: float
    lam_common_ln_sd: float
    lam_own_ln_sd: float
    lam_many_median: float
    lam_own_many_ln_sd: float
    gain_prior_sd: float
    gain_said: float
    reversed_share: float
    reversed_common: float
    sense_misread: float
    reversed_proved: float
    reversed_asked: float
    reversed_at: float
    most_at_once: float
    most_turns: float
    feel_reach_mm: float
    finish_at: float
    proving_turn: float
    said_wrong: float
    trial_mm: float
    guard_sd: float
    guard_marks: float
    guard_share: float
    guard_worse: float
    guard_most: float
    tells_enough: float
    likely_at: float
    stops_per_screw: float
    common_weight: float
    dial_sd_mm: float
    feelers_sd_mm: float
    lamp_sd_mm: float
    knobs_reach: float
    laser_sd_mm: float
    mesh_keeps_mm: float
    pause_common_sd_mm: float
    pause_each_sd_mm: float
    stepped_sd_mm: float
    stops_left: tuple[tuple[float, ...], ...]
    stops_left_p: tuple[float, ...]


class _Offset(Value):
    z_caliper_sd_mm: float
    z_apart_mm: float
    z_shrinks: dict[str, float]
    between_points_mm: float
    limit_most_mm: float
    limit_mm: float
    closest_step_mm: float
    sd_wanted_mm: float
    deepest_press_mm: float
    start_above_sd: float
    press_risk: float
    eye_press_risk: float
    searched_below: float
    closer_asks_mm: float
    sign_asks_mm: float
    sign_tried_mm: float
    sign_height_mm: float
    quick_most_mm: float
    swap_sd_mm: float
    swap_prior_n: float
    slipped_near_mm: float
    mixed_up_p: float
    mixed_up_instead_p: float
    floor_mm: float
    unknown_sd_mm: float
    unknown_near: float
    above_share: float
    above_seen_mm: float
    above_unseen_mm: float
    astray: float
    wrong: float
    wrong_reach_mm: float
    slip: float
    slip_again: float
    eye_share: float
    eye_habit: float
    eye_from_mm: float


class _Probe(Value):
    share_of_tol: float
    touches: int
    sure: float
    least_free: int
    heat_range_c: float
    margin_mm: float
    margin_within_mm: float
    tilt_places: int
    tilt_reach: float
    tilt_from_mm: float


class _SecondTip(Value):
    by_eye_sd_mm: float
    gauge_sd_mm: float
    pad_sd_mm: float
    slip: float
    pads: int
    spread_sd: float
    finest_mm: float
    lowest_top_mm: float
    within_mm: float
    done_at: float
    turn_over_sd: float
    least_turn_mm: float
    least_fresh: int
    as_good: float


class _Band(Value):
    grade: str
    key: int
    up_to: str
    word: str
    look: str


class _Bead(Value):
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
    grades: tuple[_Band, ...]


class _Minutes(Value):
    proof: float
    offset: float
    knobs: float
    measure: float
    mesh: float
    tram: float
    shim: float
    clean: float
    failed: float


class _Judge(Value):
    shim_sheets_mm: tuple[float, ...]
    shim_below: float
    shim_gains: float
    done_at: float
    leave_at: float
    gain: float
    evidence_at: float
    repeats_at_most: int
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
    feed_at: float
    feed_first: int
    cause_at: float
    also_at: float
    bundle_at: float
    caliper_saves: float
    minutes: _Minutes


class _Sign(Value):
    word: str
    group: str
    key: str
    bands: tuple[float, float, float, float, float, float, float]
    fails: float
    causes: dict[str, float] = {}


class _Cause(Value):
    word: str
    share: float
    remedy: str
    minutes: float
    helps: float
    fails: float = 0.0
    fails_edge: float = 0.0
    flow: float = 0.0
    flow_sd: float = 0.0
    astray_mm: float = 0.0
    #: So many times more often, by material.
    more: dict[str, float] = {}


class _Fails(Value):
    grades: tuple[float, float, float, float, float, float, float]
    greasy: float
    greasy_fails: float
    marked_helps: float


class _Feed(Value):
    commanded_mm: float
    mark_mm: float
    mark_sd_mm: float
    within: float
    asked_mm: float
    said_at: float


class _Measured(Value):
    habit: float
    least_habit: float
    few_promises: int
    few_marks: int
    caliper_common_mm: float
    least_caliper_common_mm: float
    short_sd_mm: float
    foot_sd_mm: float


class _Caliper(Value):
    minutes: float
    each_minutes: float
    outcomes: int


class _Recipe(Value):
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


class _Placing(Value):
    raft_below: float
    cells: int
    draws: int
    apart_mm: float
    edge_mm: float
    most: int


class _Layer(Value):
    checked_leaves: float
    signs: dict[str, _Sign]
    fails: _Fails
    causes: dict[str, _Cause]
    feed: _Feed
    measured: _Measured
    caliper: _Caliper
    recipe: _Recipe
    placing: _Placing


class _Proof(Value):
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
    ladder_from_mm: float
    ladder_patch_mm: float
    ladder_gap_mm: float
    look_s: float
    pair_c: float
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


class _Motion(Value):
    lift_mm: float
    lift_mm_s: float
    travel_mm_s: float
    down_mm_s: float
    from_above_mm: float
    clear_mm: float
    over_edge_mm: float


class _Heat(Value):
    still_moves_mm: float
    oozes_c: float
    tip_warm_c: float
    within_c: float
    window_minutes: float
    steady_c_min: float
    swing_c: float
    park_probe_mm: float
    still_mm: float
    study_beyond_c: float
    warm_c: float
    cold_c: float


class _Survey(Value):
    repeats: int
    most_repeats: int
    base_every: int
    edge_mm: float
    sizes: tuple[int, ...]
    parts_of_5: tuple[int, ...]
    hand_minutes: float
    probe_minutes: float
    same_mm: float
    fade_share: float
    least_points: int
    near_mm: float
    near_sd: float
    felt_within_mm: float
    most_again: int
    least_readings: int
    pace_from: int
    pause_minutes: float


class _Field(Value):
    sigmas_mm: tuple[float, ...]
    sigma_mm: float
    sigma_ln_sd: float
    lengths: tuple[float, ...]
    noise_factors: tuple[float, ...]
    noise_ln_sd: float
    least_weight: float
    drift_mm: float
    wander_mm: float
    sitting_mm: float
    gross_share: float
    gross_sizes_mm: tuple[float, ...]
    gross_mm: float
    doubt_at: float
    repeat_at: float
    doubted_one_in: int
    least_to_doubt: int
    enough_of_tol: float
    nearly: float
    enough_share: float


class _Layout(Value):
    grid_sd_mm: float
    tail: float
    transposed: float
    negated: float
    sure: float
    still_possible: float
    to_read: int
    shift_sd_mm: float


class _OldMesh(Value):
    own_mm: float
    week_mm: float
    changed: float
    changed_per_week: float
    change_mm: float
    zero_mm: float
    length: float
    mesh_sd_mm: float
    draws: int
    share_used: float
    holds_at: float
    first_reads: int
    most_reads: int


class _GoesBy(Value):
    """What drift may go by: shares of days, prints and removals of the sheet, and how likely that is beforehand."""

    shares: tuple[float, float, float]
    chance: float


class _Drift(Value):
    goes_by: tuple[_GoesBy, ...]
    common_rate: float
    own_rate: float
    ln_sd: float
    ln_sd_known: float
    form_share: float
    wanders: float
    slope_mm_day: float
    named_at: float
    jump_common_mm: float
    jump_each_mm: float
    floor_mm: float
    check_sd_mm: float
    correction_sd_mm: float
    worth_moving: float
    turn_beside: float
    hours_a_print: float
    risk: float


class _HeldMaterial(Value):
    stiff_mpa: float
    shrinks: float
    grip_j_m2: float
    strength_mpa: float


class _HoldDown(Value):
    factor_sd: float
    worth: float
    knock_n: float
    corner_power: float
    tall_mm: float
    brims_mm: tuple[float, ...]
    brim_reach_mm: float
    enclosed: float
    material: dict[str, _HeldMaterial]


class _JobCheck(Value):
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


def _table(name: str) -> dict[str, Any]:
    return tomllib.loads(files(__package__).joinpath(f"{name}.toml").read_text("utf-8"))


_job = _table("job")
FEEL = _Feel.model_validate(_job["feel"])
TRAM = _Tram.model_validate(_job["tram"])
OFFSET = _Offset.model_validate(_job["offset"])
PROBE = _Probe.model_validate(_job["probe"])
SECOND = _SecondTip.model_validate(_job["second_tip"])
BEAD = _Bead.model_validate(_job["bead"])
JUDGE = _Judge.model_validate(_job["judge"])
PROOF = _Proof.model_validate(_job["proof"])
MOTION = _Motion.model_validate(_job["motion"])
HEAT = _Heat.model_validate(_job["heat"])
JOB_CHECK = _JobCheck.model_validate(_job["job_check"])
SURVEY = _Survey.model_validate(_job["survey"])
FIELD = _Field.model_validate(_job["field"])
LAYOUT = _Layout.model_validate(_job["layout"])
OLD_MESH = _OldMesh.model_validate(_job["old_mesh"])
#: Signs of a first layer, and what may lie behind them.
LAYER = _Layer.model_validate(_table("first_layer"))
HOLD_DOWN = _HoldDown.model_validate(_table("hold_down"))
DRIFT = _Drift.model_validate(_table("drift"))
CONVENTIONS: dict[str, Any] = _table("conventions")
PREPARE: dict[str, Any] = _table("prepare")
#: What a workshop begins with: gauges, filaments, and where knobs usually are.
FIRST: dict[str, Any] = _table("first")
GONE_BAD: dict[str, Any] = _table("gone_bad")
