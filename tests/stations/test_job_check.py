"""A job over this plate: agrees with the practice plate, follows the stored value, says when it does not know, and is kept."""

import contextlib
import io
from dataclasses import replace
from threading import Event, Thread

import httpx
import numpy as np
import pytest

from ivory_table.core.thermal import ThermalReading, ThermalStudy
from ivory_table.core.wear import Use
from ivory_table.desk.desk import Desk, StartRun
from ivory_table.program.job import Cancelled, NotAJob, read_job
from ivory_table.program.job_copy import Mend
from ivory_table.runs.doubts import Refused
from ivory_table.stations import offset, tram
from ivory_table.stations.job import check as job_check
from ivory_table.stations.job.check import check, findings
from ivory_table.stations.job.compared import compare
from ivory_table.stations.job.copy import copy
from ivory_table.stations.job.report import CheckWanted, JobReport
from ivory_table.stations.job.standing import standing
from ivory_table.stations.logbook import TellLog, tell
from ivory_table.store.checked import checked
from ivory_table.store.trouble import Unknown
from ivory_table.store.workshop import Workshop
from tests.conftest import serving
from tests.jobs import DIALECTS, Made, made

BIG = made(DIALECTS[0], at=(25.0, 25.0), size_mm=185.0, layers=2)


def checked_by(desk: Desk, m: Made = BIG, machine: str = "heron", **wanted: object) -> JobReport:
    return check(
        desk, machine, io.BytesIO(m.text().encode()), CheckWanted.model_validate({"name": "a.gcode", **wanted})
    )


@pytest.fixture
def measured(desk: Desk) -> Desk:
    """Heron trammed and its offset found by the practice person."""
    desk.start(
        StartRun(
            id="run",
            machine_id="heron",
            plate_id="heron-steel",
            filament_id="pla-white",
            gauge_id="copy-paper",
            initials="mk",
        )
    )

    def practise(station: str, act) -> None:
        seq = desk.open("run").seq
        desk.ask_hands("run", station, f"{station}-{seq}", seq, lambda run: act(desk, run))
        desk.settled()

    while tram.step.now_at(desk.open("run")).step != "done":
        practise("tram", tram.practice.practice)
    while offset.step.now_at(desk.open("run")).step != "done":
        practise("offset", offset.practice.practice)
    return desk


def test_what_is_foretold_of_the_plate_is_what_the_practice_plate_is(measured: Desk) -> None:
    report = checked_by(measured)
    assert [f for f in report.findings if f.level != "note"] == []
    assert (report.layer_mm, report.line_mm) == pytest.approx((0.2, 0.45), abs=0.01)
    hands = measured.hands(measured.open("run"))
    truth = np.array([hands.gap_at_zero(c.x_mm, c.y_mm) + 0.2 for c in report.cells])
    gap, sd = (np.array([getattr(c, name) for c in report.cells]) for name in ("gap_mm", "sd_mm"))
    # Stated sds hold: the plate's own bumps are in them.
    z = (truth - gap) / sd
    assert np.mean(np.abs(z) < 2.5) > 0.9
    low, high = measured.open("run").state.bead.bands_mm()["sound"]
    clear = (np.abs(truth - low) > 0.01) & (np.abs(truth - high) > 0.01)
    sure = np.array([c.verdict != "unsure" for c in report.cells])
    is_sound = (truth > low) & (truth < high)
    said = np.array([c.verdict == "sound" for c in report.cells])
    both = clear & sure
    assert both.mean() > 0.5
    assert np.mean(said[both] == is_sound[both]) >= 0.95


def test_a_stored_value_that_was_altered_since_is_taken_into_account_and_put_right(measured: Desk) -> None:
    before = checked_by(measured)
    heron = measured.workshop.machine("heron")
    # A stop position: larger is closer.
    measured.workshop.keep_machine(heron.model_copy(update={"stored_mm": heron.stored_mm + 0.15}))
    after = checked_by(measured)
    gaps = [np.mean([c.gap_mm for c in r.cells]) for r in (before, after)]
    assert gaps[1] - gaps[0] == pytest.approx(-0.15, abs=1e-3)
    assert after.share_sound < 0.1 < before.share_sound
    assert {c.verdict for c in after.cells} == {"scraped"}
    assert after.better is not None
    assert after.better.p_after > after.better.p_before
    assert after.better.stored_mm == pytest.approx(heron.stored_mm, abs=0.06)
    assert any("taken into account" in line for line in after.rests_on)


def test_the_longer_ago_the_less_is_known(measured: Desk) -> None:
    now = checked_by(measured)
    on = standing(measured, "heron", None, None)
    assert on.drift is not None
    places = np.array([(c.x_mm, c.y_mm) for c in now.cells])
    week, month = (replace(on, drift=replace(on.drift, done=Use(days=days))).drifted(places)[1] for days in (7.0, 28.0))
    assert np.allclose(month, 4 * week, rtol=0.3)
    # By the rates of the trade: about what the supports wander, and the middle with them.
    known = on.drift.known.gone(Use(days=7.0))
    assert np.sqrt(known.common) < np.sqrt(np.diag(week).max()) < 3 * np.sqrt(known.common + known.supports.max())
    eye = np.linalg.eigvalsh(month + 1e-12 * np.eye(len(places)))
    assert eye.min() > 0
    # An incident that nobody has looked at is a jump.
    tell(measured.workshop, "heron", TellLog(id="k", kind="knock", by="mk"))
    after = checked_by(measured)
    assert after.p_all_sound < now.p_all_sound - 0.05
    assert any("Something happened" in line for line in after.rests_on)


def test_a_thin_first_layer_is_told_what_would_forgive_more(measured: Desk) -> None:
    heron = measured.workshop.machine("heron")
    measured.workshop.keep_machine(heron.model_copy(update={"stored_mm": heron.stored_mm - 0.02}))
    report = checked_by(measured, made(DIALECTS[0], at=(25.0, 25.0), size_mm=185.0, layers=2, layer_mm=0.15))
    told = report.otherwise
    assert told is not None
    assert told.layer_mm > 0.2
    assert told.p_after > told.p_before + 0.05
    # Held against a job that is laid so: as likely, within what drawing it again gives.
    so = made(DIALECTS[0], at=(25.0, 25.0), size_mm=185.0, layers=2, layer_mm=told.layer_mm, line_mm=told.line_mm)
    assert checked_by(measured, so).p_all_sound == pytest.approx(told.p_after, abs=0.1)


def test_a_job_that_would_hold_better_elsewhere_is_turned_and_moved_there(measured: Desk) -> None:
    """A plate that rises to one corner: a small job in that corner is told to leave it, and the copy holds as foretold."""
    on = standing(measured, "heron", None, None)
    belief = on.state.belief
    xs = np.array([(40.0, 40.0), (195.0, 195.0), (40.0, 195.0), (195.0, 40.0), on.plate.centre])
    heights, _ = belief.height(xs)
    worst = xs[int(np.argmax(np.abs(heights - np.median(heights))))]
    heron = measured.workshop.machine("heron")
    measured.workshop.keep_machine(heron.model_copy(update={"stored_mm": heron.stored_mm + 0.03}))
    job = made(DIALECTS[0], at=(float(worst[0]) - 25, float(worst[1]) - 25), size_mm=50.0, layers=2)
    before = checked_by(measured, job)
    told = before.placed
    assert told is not None
    assert told.share_after > told.share_before + 0.015
    out = io.BytesIO()
    mend = Mend(dx_mm=told.dx_mm, dy_mm=told.dy_mm, turn_deg=told.turn_deg)
    copy(measured, "heron", io.BytesIO(job.text().encode()), out, mend, "a.gcode")
    after = check(measured, "heron", io.BytesIO(out.getvalue()), CheckWanted(name="b"))
    assert [f.code for f in after.findings if f.level == "stop"] == []
    assert after.share_sound == pytest.approx(told.share_after, abs=0.05)


def test_heat_between_the_layers_and_a_plate_that_still_moves_are_told_by_its_study(measured: Desk) -> None:
    heron = measured.workshop.machine("heron")
    x, y = heron.plates[0].centre
    at = [
        (25.0, 0.0, 10.0),
        (57.0, 0.10, 2.0),
        (57.0, 0.14, 6.0),
        (57.0, 0.16, 12.0),
        (57.0, 0.166, 30.0),
        (80.0, 0.30, 30.0),
    ]
    readings = tuple(
        ThermalReading(place="centre", x_mm=x, y_mm=y, bed_c=c, height_mm=h, held_min=held) for c, h, held in at
    )
    job = made(DIALECTS[0], at=(60.0, 60.0), size_mm=100.0)
    job.put("up 1", "hotter", "M140 S80")
    on = replace(standing(measured, "heron", None, None), study=ThermalStudy(plate_id="heron-steel", readings=readings))
    read = read_job(io.BytesIO(job.text().encode()))
    told = {f.code: f for f in findings(measured, read, on)}
    assert (told["heat_between_layers"].level, told["heat_between_layers"].line) == ("warning", job.line_of("hotter"))
    assert "0.13" in told["heat_between_layers"].text
    moves = told["plate_still_moves"]
    assert moves.line == job.line_of("bed wait")
    # Waited for, nothing is said.
    job.put("lift", "dwell", moves.instead[0])
    read = read_job(io.BytesIO(job.text().encode()))
    assert "plate_still_moves" not in {f.code for f in findings(measured, read, on)}


def test_a_plate_nobody_measured_gives_findings_and_no_verdict(desk: Desk) -> None:
    m = made(DIALECTS[0])
    m.without("home")
    report = checked_by(desk, m)
    assert report.cells == ()
    assert report.p_all_sound is None
    assert "Nobody has measured" in report.rests_on[0]
    assert report.findings[0].code == "not_homed"
    assert report.words.startswith("Do not print")


def test_through_a_keep_out_it_is_stopped_at_its_line(desk: Desk) -> None:
    plate = desk.workshop.machine("heron").plates[0]
    out = plate.keep_outs[0]
    x, y = (out.x_min_mm + out.x_max_mm) / 2, (out.y_min_mm + out.y_max_mm) / 2
    m = made(DIALECTS[0])
    m.put("lay 0 3", "seeded", f"G0 X{x} Y{y} F6000")
    told = next(f for f in checked_by(desk, m).findings if f.code == "keep_out")
    assert (told.level, told.line) == ("stop", m.line_of("seeded"))


def test_two_jobs_are_held_against_each_other(desk: Desk) -> None:
    other = made(DIALECTS[0], at=(25.0, 25.0), size_mm=185.0, layers=2, tip_c=215.0, layer_mm=0.24)
    other.without("fan off")
    other.put("tip off", "seeded", "M300 S440")
    one, two = checked_by(desk), checked_by(desk, other)
    found = compare(one, two)
    assert [(d.kind, d.numbers) for d in found.start if d.kind == "changed"] == [("changed", ((206.0, 215.0),))]
    assert [d.was for d in found.start if d.kind == "gone"] == ["M106 S0"]
    assert [d.now for d in found.end if d.kind == "new"] == ["M300 S440"]
    assert ("layer", "0.200 mm", "0.240 mm") in found.first_layer
    assert compare(one, one).words.startswith("Nothing differs")


def test_wrong_plates_machines_and_files_are_said(desk: Desk, workshop: Workshop) -> None:
    with pytest.raises(Unknown):
        checked_by(desk, machine="nobody")
    with pytest.raises(Refused):
        checked_by(desk, plate_id="nobody")
    with pytest.raises(Unknown):
        checked_by(desk, filament_id="nobody")
    with pytest.raises(NotAJob):
        check(desk, "heron", io.BytesIO(b""), CheckWanted())
    assert checked("heron") == ()
    for _ in range(23):
        checked_by(desk, made(DIALECTS[0], layers=1))
    assert len(checked("heron")) == 20
    assert checked("wren") == ()


def test_over_http_a_file_is_sent_as_it_is_and_its_report_is_kept(tmp_path) -> None:
    with serving(tmp_path) as at, httpx.Client(base_url=at, timeout=60) as http:
        sent = http.post("/api/machines/heron/jobs", params={"name": "../a.gcode"}, content=BIG.text().encode())
        assert sent.status_code == 201, sent.text
        assert sent.json()["name"] == "a.gcode"
        kept = http.get("/api/machines/heron/jobs").json()["jobs"]
        assert [j["id"] for j in kept] == [sent.json()["id"]]
        assert http.get(f"/api/machines/heron/jobs/{kept[0]['id']}").json() == sent.json()
        assert http.get(f"/api/machines/wren/jobs/{kept[0]['id']}").status_code == 404
        for body in (b"", b"\x1f\x8b\x08", b"MZ\x00\x00"):
            refused = http.post("/api/machines/heron/jobs", content=body)
            assert (refused.status_code, refused.json()["code"], refused.json()["field"]) == (422, "not_a_job", "file")


def test_how_far_it_is_read_can_be_asked_and_hanging_up_stops_it(tmp_path, monkeypatch) -> None:
    stopped, reading = Event(), Event()

    def endless(stream, progress):
        try:
            while True:
                progress(5)
                reading.set()
        except Cancelled:
            stopped.set()
            raise

    monkeypatch.setattr(job_check, "read_job", endless)
    with serving(tmp_path) as at:
        at_jobs = f"{at}/api/machines/heron/jobs"

        def send() -> None:
            with contextlib.suppress(httpx.TimeoutException):
                httpx.post(
                    at_jobs, params={"reading": "one"}, content=BIG.text().encode(), timeout=httpx.Timeout(60, read=3)
                )

        sender = Thread(target=send)
        sender.start()
        assert reading.wait(60)
        assert httpx.get(f"{at_jobs}/reading/one").json() == {"bytes": 5, "whole": len(BIG.text())}
        sender.join()
        assert stopped.wait(60)
        assert httpx.get(f"{at_jobs}/reading/another").json() == {"bytes": 0, "whole": 0}
        assert httpx.get(at_jobs).json() == {"jobs": []}
