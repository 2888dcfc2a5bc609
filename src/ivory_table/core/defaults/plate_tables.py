"""What the tables say of the plate, the tip, the probe and the mesh: one class a table."""

from typing import Literal

from ..value import Value


class FeelMethod(Value):
    cuts_mm: tuple[float, float, float, float]
    scatter_mm: float
    scatter_ln_sd: float


class UsualGauge(Value):
    mm: float
    sd_mm: float


class Feel(Value):
    usual: dict[str, UsualGauge]
    press_n: dict[Literal["slide", "push", "clip"], float]
    methods: dict[str, FeelMethod]
    cuts_mm: tuple[float, float, float, float]
    cuts_apart_mm: float
    scatter_mm: float
    scatter_ln_sd: float
    past_sd_mm: float
    spacing_ln_sd: float
    gives_way_from_mm: float
    bias_sd_mm: float
    unmeasured_sd_mm: float


class Tram(Value):
    beam_level_mm: float
    walk_rocks: float
    tol_share_of_layer: float
    done_at: float
    hand_floor_mm: float
    hand_share: float
    knob_prior_sd_mm: float
    common_prior_sd_mm: float
    far_sd_mm: float
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
    thread_sd: float
    thread_fits: float
    gain_said: float
    reversed_share: float
    reversed_common: float
    sense_misread: float
    reversed_proved: float
    reversed_asked: float
    reversed_at: float
    most_at_once: float
    most_turns: float
    misses_give_up: int
    near_share: float
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


class Offset(Value):
    z_caliper_sd_mm: float
    z_apart_mm: float
    z_shrinks: dict[str, float]
    centre_within_mm: float
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
    felt_at_most: int
    again_tells: float
    tells_least: float
    slip_again: float
    eye_share: float
    eye_habit: float
    eye_from_mm: float
    thick_layers: tuple[int, ...]
    thick_least_mm: float
    thick_sd_mm: float
    thick_share: float
    thick_slip: float
    thick_asks_mm: float
    tip_apart_c: float
    tip_alike_c: float
    tip_sure_sd: float
    tip_from_mm: float
    tip_most_mm_c: float


class Probe(Value):
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
    sight_mm: float
    marks: int
    place_from_mm: float
    place_matters_mm: float
    parked_range_min: float


class SecondTip(Value):
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


class Motion(Value):
    lift_mm: float
    lift_mm_s: float
    travel_mm_s: float
    down_mm_s: float
    from_above_mm: float
    clear_mm: float
    over_edge_mm: float


class Heat(Value):
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


class Survey(Value):
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
    looks_beside: int
    near_sd: float
    felt_within_mm: float
    most_again: int
    least_readings: int
    pace_from: int
    pause_minutes: float


class Field(Value):
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


class Layout(Value):
    grid_sd_mm: float
    tail: float
    transposed: float
    negated: float
    sure: float
    still_possible: float
    to_read: int
    shift_sd_mm: float


class OldMesh(Value):
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


class GoesBy(Value):
    """What drift may go by: shares of days, prints and removals of the sheet, and how likely that is beforehand."""

    shares: tuple[float, float, float]
    chance: float


class Drift(Value):
    goes_by: tuple[GoesBy, ...]
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
