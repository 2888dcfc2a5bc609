"""The line, over a real pty and real TCP: what it says when things go well, and when they do not."""

import socket
import threading

import numpy as np
import pytest

from ivory_table.core.manner import Manner
from ivory_table.link.ports import open_port
from ivory_table.link.session import Session
from ivory_table.link.trouble import Cancelled, LineTrouble

from .conftest import Bench, quick, until


def done(session: Session, job, seconds: float = 8.0) -> str:
    """Run one job to its end; what the line then says."""
    state = {"ended": False}

    def whole(at: Session) -> None:
        try:
            job(at)
        finally:
            state["ended"] = True

    session.start("a job", whole)
    until(lambda: state["ended"] and session.status.state not in ("busy", "waiting"), seconds)
    return session.status.words


def homed(session: Session) -> None:
    assert done(session, lambda at: at.home()) == ""
    assert session.status.homed


def moved(session: Session) -> None:
    session.ask(session.manner.send("height", z=12, feed=600))
    session.ask(session.manner.send("move", x=60, y=80, feed=4800))
    session.where()


def test_it_answers_homes_moves_and_says_where_it_is(bench: Bench) -> None:
    session = bench.session()
    assert session.status.state == "idle"
    assert session.status.bed_c == pytest.approx(21, abs=0.5)
    homed(session)
    assert done(session, moved) == ""
    assert session.status.position_mm == (60, 80, 12)
    said = bench.log.read_text()
    assert "sent" in said
    assert "heard" in said
    assert said.count("\n") > 10


def test_a_probing_is_where_the_plate_is(bench: Bench) -> None:
    session, found = bench.session(), []
    homed(session)

    def probe(at: Session) -> None:
        at.ask(at.manner.send("height", z=8, feed=600))
        for _ in range(3):
            match = at.ask(at.manner.send("probe", x=120, y=120), "touched")
            found.append(float(match["z"]))

    assert done(session, probe) == ""
    body = bench.served.body
    truth = body.surface(np.array([[120.0 - 41, 120.0 - 9]]))[0] - body.shift_mm
    assert found == pytest.approx([truth + 1.6] * 3, abs=0.03)


def test_a_target_outside_is_refused_by_the_machine_and_said(bench: Bench) -> None:
    session = bench.session()
    homed(session)
    words = done(session, lambda at: at.ask(at.manner.send("move", x=900, y=0, feed=600)))
    assert "outside the limits" in words
    assert session.status.state == "idle"


def test_motors_that_timed_out_ask_for_homing(bench: Bench) -> None:
    session = bench.session()
    homed(session)
    bench.served.body.let_go()
    assert "home first" in done(session, moved)
    assert not session.status.homed


def test_heat_climbs_and_is_reported(bench: Bench) -> None:
    session = bench.session()

    def heat(at: Session) -> None:
        at.ask(at.manner.send("heat_bed", celsius=60))
        at.pause(300)

    done(session, heat)
    until(lambda: session.status.bed_c > 55)
    assert session.status.bed_target_c == 60
    assert max(w.bed_c for w in session.warmth) < 66


def test_the_stop_goes_past_a_move_at_once(bench: Bench) -> None:
    bench.served.pace = 1.0
    session = bench.session()
    bench.served.body.homed = True
    session.start("slow", lambda at: at.ask(at.manner.send("move", x=300, y=300, feed=60)))
    until(lambda: session.status.state == "busy")
    session.stop()
    assert session.status.state == "halted"
    assert not session.status.homed
    until(lambda: bench.served.firmware.halted)
    with pytest.raises(LineTrouble, match="halted"):
        session.start("more", moved)
    session.recover()
    until(lambda: session.status.state == "idle")
    assert not session.status.homed


def test_a_job_is_cancelled_between_two_commands(bench: Bench) -> None:
    session, did = bench.session(), []
    homed(session)

    def many(at: Session) -> None:
        for k in range(2000):
            at.ask(at.manner.send("height", z=10 + k % 2, feed=600))
            did.append(k)

    session.start("many", many)
    until(lambda: len(did) > 3)
    session.cancel()
    until(lambda: session.status.state == "idle")
    assert len(did) < 2000
    assert session.status.words == "Cancelled."
    assert session.status.homed


def test_a_question_waits_for_the_person(bench: Bench) -> None:
    session, said = bench.session(), []
    session.start("asks", lambda at: said.append(at.question("Which?", ("this", "that"), "choice")))
    until(lambda: session.status.state == "waiting")
    assert session.status.answers == ("this", "that")
    assert not session.answer("those")
    assert not session.answer("that", "Which one?")
    assert session.answer("that", "Which?")
    # Answered: a second press finds nothing to answer, whether or not the job has gone on.
    assert session.status.state != "waiting"
    assert not session.answer("this")
    until(lambda: said == ["that"])


def test_what_was_answered_before_a_cancel_counts_and_what_follows_is_cancelled(bench: Bench) -> None:
    session, said = bench.session(), []

    def asks(at: Session) -> None:
        said.append(at.question("Which?", ("this", "that"), "choice"))
        try:
            at.where()
        except Cancelled:
            said.append("cancelled")
            raise

    session.start("asks", asks)
    until(lambda: session.status.state == "waiting")
    assert session.answer("that")
    session.cancel()
    until(lambda: said == ["that", "cancelled"])


# Faults


@pytest.mark.parametrize("fault", ["garbage", "half_line"])
def test_noise_between_replies_changes_nothing(bench: Bench, fault: str) -> None:
    session = bench.session()
    homed(session)
    bench.served.fault(fault)
    assert done(session, moved) == ""
    assert session.status.position_mm == (60, 80, 12)


def test_a_lost_acknowledgement_stops_the_job_and_says_that_it_answers(bench: Bench) -> None:
    session = bench.session()
    homed(session)
    bench.served.fault("lost_acknowledgement")
    words = done(session, moved)
    assert "did not confirm" in words
    assert "it answers" in words
    assert session.status.state == "idle"
    moves = bench.log.read_text().count("X60.000")
    assert moves == 0  # the job ended with the unconfirmed line: nothing was moved after it
    assert done(session, moved) == ""


def test_a_reply_after_its_time_is_not_taken_for_the_next(bench: Bench) -> None:
    session = bench.session()
    homed(session)
    bench.served.fault("late")
    assert "did not confirm" in done(session, moved)
    assert done(session, moved) == ""
    assert session.status.position_mm == (60, 80, 12)


def test_silence_ends_in_lost_with_what_to_do(bench: Bench) -> None:
    session = bench.session()
    homed(session)
    bench.served.fault("silence")
    words = done(session, moved, 12)
    assert session.status.state == "lost"
    assert "silent" in words
    assert "connect again" in words
    assert not session.status.homed
    bench.served.fault("none")
    again = bench.session()
    assert again.status.state == "idle"
    assert not again.status.homed  # home first


def test_a_job_is_waiting_or_at_hand_and_never_neither(bench: Bench) -> None:
    """Whoever looks as it is taken up sees it: else it would seem done before it began."""
    session = bench.session()
    until(lambda: session.status.state == "idle")
    seen: list[tuple[int, str]] = []
    asked, taken, begun = threading.Event(), threading.Event(), threading.Event()
    get = session._jobs.get

    def slowly(*args: object, **more: object):
        asked.set()
        found = get(*args, **more)
        taken.set()
        begun.wait(20)
        return found

    session._jobs.get = slowly  # type: ignore[method-assign]
    done = threading.Event()
    assert asked.wait(20)
    session.start("look", lambda _: done.set())
    assert taken.wait(20)
    now = session.status
    seen.append((now.queued, now.job))
    session._jobs.get = get  # type: ignore[method-assign]
    begun.set()
    assert done.wait(20)
    until(lambda: session.status.state == "idle")
    assert seen == [(1, "")]
    assert session.status.queued == 0


def test_a_halt_drops_the_queue(bench: Bench) -> None:
    session, ran = bench.session(), []
    homed(session)
    bench.served.fault("halt")
    session.start("first", moved)
    session.start("second", lambda at: ran.append(1))
    until(lambda: session.status.state == "halted")
    assert "a fault for practice" in session.status.words
    assert session.status.queued == 0
    assert ran == []


def test_a_machine_that_restarts_by_itself_is_not_moved_again(bench: Bench) -> None:
    session = bench.session()
    homed(session)
    before = list(bench.served.body.at)
    bench.served.fault("restart")
    session.start("goes", moved)
    until(lambda: session.status.state == "halted")
    assert "restarted by itself" in session.status.words
    assert bench.served.body.at == before
    session.recover()
    until(lambda: session.status.state == "idle")
    assert not session.status.homed


@pytest.mark.parametrize("manner", [quick("harbour")], indirect=False, ids=["harbour"])
def test_a_storm_of_resends_ends_in_lost(bench: Bench, manner: Manner) -> None:
    session = bench.session()
    homed(session)
    bench.served.fault("again_storm")
    words = done(session, moved)
    assert session.status.state == "lost"
    assert "cable" in words


@pytest.mark.parametrize("manner", [quick("harbour")], indirect=False, ids=["harbour"])
def test_a_line_asked_for_again_is_sent_again(bench: Bench, manner: Manner) -> None:
    session = bench.session()
    homed(session)
    firmware = bench.served.firmware
    real, spoilt = firmware.obey, []

    def once_spoilt(line: str):
        if "X60" in line and not spoilt:
            spoilt.append(line)
            line = line.replace("X60", "X61")  # a bit flipped on the way: the checksum tells
        return real(line)

    firmware.obey = once_spoilt
    assert done(session, moved) == ""
    assert spoilt
    assert session.status.position_mm == (60, 80, 12)


@pytest.mark.parametrize("plug", ["tcp"], indirect=True)
def test_a_line_that_breaks_in_a_move_is_lost_and_the_machine_at_rest(bench: Bench) -> None:
    session = bench.session()
    homed(session)
    bench.served.fault("drop", 2)
    words = done(session, moved)
    assert session.status.state == "lost"
    assert "home first" in words
    assert bench.served.body.at[2] == 12  # it had lifted, and stayed there
    assert bench.session().status.state == "idle"


def test_two_servers_cannot_have_one_line(bench: Bench, plug: str) -> None:
    first = bench.session()
    if plug == "pty":
        with pytest.raises(ValueError, match="in use by another program"):
            open_port(bench.url)
        return
    second = bench.session()
    assert second.status.state == "lost"
    assert "another program or server" in second.status.words
    assert first.status.state == "idle"


@pytest.mark.parametrize(
    "url", ["", "socket://", "http://host:80", "/etc/passwd", "/dev/../etc/passwd", "spy:///dev/ttyS0?file=x", "COM"]
)
def test_only_devices_and_sockets_are_opened(url: str) -> None:
    with pytest.raises(ValueError, match="Give a serial device"):
        open_port(url)


def test_a_port_that_nobody_listens_on_is_said_plainly() -> None:
    with pytest.raises(ValueError, match="cannot be opened"):
        open_port("socket://127.0.0.1:9")


def test_the_wrong_manner_is_found_out(tmp_path, bench: Bench, manner: Manner) -> None:
    other = quick("lantern" if manner.id == "harbour" else "harbour")
    session = Session(open_port(bench.url), other, None)
    bench.sessions.append(session)
    until(lambda: session.status.state == "lost")
    assert other.name in session.status.words


def test_an_open_thermistor_halts_the_machine_and_is_named(bench: Bench) -> None:
    session = bench.session()
    homed(session)
    bench.served.fault("thermistor_open")
    until(lambda: session.status.state == "halted")
    assert "thermistor open" in session.status.words
    assert bench.served.body.bed.target_c == 0


@pytest.mark.parametrize("plug", ["tcp"], indirect=True)
def test_a_heater_that_stops_halts_the_machine_instead_of_waiting_for_ever(bench: Bench) -> None:
    session = bench.session()
    bench.served.fault("heater_stops")

    def heat(at: Session) -> None:
        at.ask(at.manner.send("heat_bed", celsius=60))
        at.pause(600)

    session.start("heat", heat)
    until(lambda: session.status.state == "halted")
    assert "bed does not heat" in session.status.words


def test_connecting_to_a_halted_machine_says_so_and_it_can_be_recovered(bench: Bench) -> None:
    first = bench.session()
    first.stop()
    until(lambda: bench.served.firmware.halted)
    first.close()
    second = bench.session()
    assert second.status.state == "halted"
    assert "recover it" in second.status.words
    second.recover()
    until(lambda: second.status.state == "idle")
    assert not second.status.homed


@pytest.mark.parametrize("plug", ["tcp"], indirect=True)
def test_who_hangs_up_and_calls_again_at_once_finds_the_line_free(bench: Bench) -> None:
    for _ in range(25):
        with socket.create_connection(("127.0.0.1", bench.served.plug.port)) as line:
            line.settimeout(20)
            # The last words are not heard before the line is let go.
            assert b"taken" not in line.recv(200)
            line.sendall(b"half a wo")
