"""Jobs made elsewhere: read alike in every dialect, every seeded fault found at its line, nothing hung up on, nothing fatal."""

import io
import random
from math import hypot, pi

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ivory_table.core.bead import Bead
from ivory_table.core.manner import shipped
from ivory_table.core.recipe import forgives
from ivory_table.demo.tidewater import FILAMENTS, MACHINES
from ivory_table.program.findings import find
from ivory_table.program.job import FIRST_SAID, LAST_SAID, LONGEST_LINE, Cancelled, NotAJob, read_job
from ivory_table.program.reader import CHORD_MM, read_program
from tests.jobs import DIALECTS, FAULTS, Dialect, Fault, Made, made

HERON = next(m for m in MACHINES if m.id == "heron")
PLA = next(f for f in FILAMENTS if f.id == "pla-white")
PLAIN = DIALECTS[0]


def read(m: Made | str):
    text = m if isinstance(m, str) else m.text()
    return read_job(io.BytesIO(text.encode()))


def found(m: Made, mesh_on: bool = False):
    manner = shipped(HERON.manner)
    return find(read(m), HERON, HERON.plates[0], PLA, manner, mesh_on=mesh_on)


@pytest.mark.parametrize("dialect", DIALECTS, ids=lambda d: d.name)
def test_every_dialect_is_the_same_job(dialect: Dialect) -> None:
    plain, job = read(made(PLAIN)), read(made(dialect))
    assert job.first_z == pytest.approx(0.2, abs=2e-4)
    assert job.second_z == pytest.approx(0.4, abs=2e-4)
    assert job.unreadable == 0

    def laid(of):
        return (
            sum(m.filament_mm for m in of.first_layer),
            sum(hypot(m.end[0] - m.start[0], m.end[1] - m.start[1]) for m in of.first_layer),
        )

    assert laid(job) == pytest.approx(laid(plain), rel=0.01)
    xs = [m.end[0] for m in job.first_layer]
    assert (min(xs), max(xs)) == pytest.approx((60, 120), abs=0.05)


@pytest.mark.parametrize("dialect", DIALECTS, ids=lambda d: d.name)
def test_a_clean_job_is_found_nothing_worse_than_a_note(dialect: Dialect) -> None:
    told = found(made(dialect), mesh_on=dialect.mesh)
    assert [f for f in told if f.level != "note"] == []


@pytest.mark.parametrize(("layer_mm", "told"), [(0.12, True), (0.2, False), (0.28, False)])
def test_a_first_layer_as_thin_as_the_rest_is_told_what_a_thicker_one_forgives(layer_mm: float, told: bool) -> None:
    notes = [f for f in found(made(DIALECTS[0], layer_mm=layer_mm), False) if f.code == "thin_first_layer"]
    assert [f.level for f in notes] == ["note"] * told
    if told:
        thin, usual = (forgives(Bead(0.4, layer))[1] for layer in (layer_mm, 0.2))
        assert f"±{thin:.3f} mm of gap" in notes[0].text
        assert f"forgives ±{usual:.3f}." in notes[0].text
        assert thin < 0.7 * usual


@pytest.mark.parametrize("dialect", DIALECTS, ids=lambda d: d.name)
@pytest.mark.parametrize("fault", FAULTS, ids=lambda f: f.code)
def test_every_fault_is_found_at_its_line(fault: Fault, dialect: Dialect) -> None:
    m = made(dialect)
    if fault.code == "mesh_missing" and not dialect.mesh:
        m.put("lift", "mesh", "CHART_USE S1")
    fault.seed(m)
    told = [f for f in found(m, fault.mesh_on or (dialect.mesh and "mesh" not in fault.code)) if f.code == fault.code]
    assert told, fault.code
    if fault.at is not None:
        label = fault.at if fault.at != "ring 0" else next(at for at, _ in m.lines if at.startswith("ring 0"))
        assert told[0].line == m.line_of(label)
    for line in told[0].instead:
        # What is to be written instead can be read itself, but for words of the machine's own.
        assert read_program(line, own_words=True)


def test_arcs_are_followed_within_their_chord() -> None:
    for text, centre, r, turn in (
        ("G1 X10 Y0\nG2 X-10 Y0 I-10 J0 E5", (0, 0), 10, pi),
        ("G1 X10 Y0\nG3 X10 Y0 I-10 J0 E5", (0, 0), 10, 2 * pi),
        ("G1 X0 Y0\nG2 X10 Y0 R10 E5", (5, -(75**0.5)), 10, pi / 3),
        ("G1 X0 Y0\nG3 X10 Y0 R-10 E5", (5, -(75**0.5)), 10, 5 * pi / 3),
        ("G1 X0 Y0\nG2 X10 Y0 R5 E5", (5, 0), 5, pi),
    ):
        moves = read_program("M83\n" + text).moves[1:]
        for move in moves:
            middle = [(a + b) / 2 for a, b in zip(move.start, move.end, strict=True)]
            assert hypot(move.end[0] - centre[0], move.end[1] - centre[1]) == pytest.approx(r, abs=1e-6)
            assert r - hypot(middle[0] - centre[0], middle[1] - centre[1]) <= CHORD_MM + 1e-9
        length = sum(hypot(m.end[0] - m.start[0], m.end[1] - m.start[1]) for m in moves)
        assert length == pytest.approx(r * turn, rel=2e-3)
        assert sum(m.filament_mm for m in moves) == pytest.approx(5)


@pytest.mark.parametrize("text", ["G2 X1 Y1", "G1 X0 Y0\nG2 X10 Y0 R2", "G1 X5 Y0\nG3 X9 Y9 I-5 J0"])
def test_an_arc_that_is_none_is_named_with_its_line(text: str) -> None:
    with pytest.raises(ValueError, match="Line"):
        read_program(text)


@pytest.mark.parametrize(
    "body",
    [b"", b"\n\n;\n", b"\x1f\x8b\x08 packed", b"PK\x03\x04zip", b"MZ\x00\x00\x01", b"only words about nothing\n"],
)
def test_another_file_is_said_to_be_none(body: bytes) -> None:
    with pytest.raises(NotAJob, match=r"\."):
        read_job(io.BytesIO(body))


def test_the_largest_and_oddest_end_soon() -> None:
    giant = made(PLAIN).text().encode() + b"G1 X" + b"1" * 50_000_000
    job = read_job(io.BytesIO(giant))
    assert job.unreadable >= 1
    tools = read(made(PLAIN).text() + "T1\nT0\n" * 60_000 + "M84\n")
    assert tools.unreadable == 0
    assert (tools.said[-1].line, tools.said[-1].command) == (tools.lines, "M84")
    assert len(tools.said) <= FIRST_SAID + LAST_SAID
    first = b"; " + b"x" * (3 * LONGEST_LINE) + b"\n" + made(PLAIN).text().encode()
    assert read_job(io.BytesIO(first)).first_z == pytest.approx(0.2)


def test_it_can_be_stopped_while_it_reads() -> None:
    text = made(PLAIN).text() + "G1 X1 Y1 E1\n" * 400_000

    def stop(_: int) -> None:
        raise Cancelled

    with pytest.raises(Cancelled):
        read_job(io.BytesIO(text.encode()), stop)


def test_far_commands_are_counted_at_their_lines_as_if_each_was_read() -> None:
    """The search beyond the second layer against reading line by line."""
    r = random.Random(4)
    m = made(PLAIN, layers=9)
    for k in range(3, 9):
        m.put(
            f"lay {k} {r.randrange(60)}",
            f"seeded {k}",
            r.choice(["M106 S127", "  m220 s90", "N12 T0", "G92 E0", "CHART_USE S0"]),
        )
    job, text = read(m), m.text()
    wanted = [(n, c) for n, c, _ in read_program(text, own_words=True).commands if c not in ("G0", "G1")]
    assert [(s.line, s.command) for s in job.said] == wanted
    assert job.lines == len(text.splitlines())


@pytest.mark.parametrize("dialect", DIALECTS, ids=lambda d: d.name)
def test_parts_laid_one_after_the_other_are_all_read(dialect: Dialect) -> None:
    places = ((70.0, 140.0), (150.0, 150.0))
    m = made(dialect, at=(30.0, 30.0), size_mm=40.0, layers=9, then=places)
    one, job = read(made(dialect, at=(30.0, 30.0), size_mm=40.0, layers=9)), read(m)
    assert job.comes_back is None
    assert len(job.first_layer) == 3 * len(one.first_layer)
    for n, name in enumerate(("", "part 1 ", "part 2 ")):
        labels = [at for at, _ in m.lines]
        first = next(at for at in labels if at.startswith(f"{name}ring 0"))
        then = next(at for at in labels if at.startswith(f"{name}ring 1"))
        assert job.first_spans[n] == (m.line_of(first), m.line_of(then))
    pushed = [v.filament_mm for v in job.first_layer]
    assert pushed == pytest.approx([v.filament_mm for v in one.first_layer] * 3, abs=2e-3)
    xs = [v.end[0] for v in job.first_layer]
    assert (min(xs), max(xs)) == pytest.approx((30, 190), abs=0.05)
    assert job.last_laid == max(m.line_of(at) for at, _ in m.lines if at.startswith("part 2 lay 8"))
    assert [f for f in found(m) if f.level != "note"] == [] or dialect.mesh


def test_a_part_in_relative_places_is_not_followed_and_it_is_said() -> None:
    m = made(PLAIN, layers=9)
    m.put("pull", "relative", "G91")
    m.put("pull", "seeded", "G1 Z-1.6")
    m.put("pull", "laid", "G1 X50 E3")
    assert read(m).comes_back == m.line_of("seeded")
    assert next(f for f in found(m) if f.code == "comes_back").line == m.line_of("seeded")


@pytest.mark.parametrize("z", [0.15, 0.3])
def test_a_primed_line_at_another_height_is_no_layer(z: float) -> None:
    m = made(PLAIN, layers=9)
    m.put("fan off", "to prime", f"G0 X5 Y5 Z{z} F6000")
    m.put("fan off", "primed", "G1 X5 Y105 E6 F900")
    job = read(m)
    assert (job.first_z, job.second_z) == pytest.approx((0.2, 0.4))
    assert job.first_spans[0][0] == m.line_of("ring 0 1")
    assert len(job.second_layer) == len(read(made(PLAIN, layers=9)).second_layer)


@pytest.mark.parametrize("place", ["9" * 400, "99999999999", "-1000000"])
def test_a_place_beyond_any_machine_is_named_and_changes_nothing(place: str) -> None:
    m = made(PLAIN)
    m.put("lay 0 3", "seeded", f"G1 X{place} E1")
    job = read(m)
    assert job.bad_lines == [(m.line_of("seeded"), "it goes farther than any machine reaches")]
    assert len(job.first_layer) == len(read(made(PLAIN)).first_layer)
    found(m)


def test_coming_back_down_at_every_layer_does_not_hang() -> None:
    wipes = "".join(f"G1 Z0.1\nG1 Z{k % 90 + 5} X{50 * (k % 2)} E9999\n" for k in range(60_000))
    job = read(made(PLAIN).text() + wipes)
    assert job.comes_back is not None
    assert job.unreadable == 0


@given(st.binary(max_size=3000))
@settings(max_examples=60)
def test_whatever_it_is_given_it_is_read_or_refused(body: bytes) -> None:
    for extra in (b"", made(PLAIN, layers=2).text().encode()):
        try:
            job = read_job(io.BytesIO(extra + body))
        except NotAJob:
            continue
        find(job, HERON, HERON.plates[0], PLA, shipped(HERON.manner), mesh_on=True)


@given(st.lists(st.text(st.sampled_from("GMTXYZEFIJRSN0123456789.-+ *;()\n"), max_size=30), max_size=40))
@settings(max_examples=60)
def test_words_in_any_order_are_read_or_named(lines: list[str]) -> None:
    try:
        job = read("\n".join(lines) or "G1")
    except NotAJob:
        return
    find(job, HERON, HERON.plates[0], PLA, shipped(HERON.manner), mesh_on=False)
