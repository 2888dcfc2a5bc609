"""The command line: a killed server loses nothing, and the wheel alone is enough."""

import json
import os
import shutil
import signal
import socket
import sqlite3
import subprocess
import sys
import sysconfig
import time
import venv
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx
import pytest
from typer.testing import CliRunner, Result

from ivory_table.cli.app import app
from ivory_table.demo.tidewater import furnish
from ivory_table.store.workshop import Workshop
from tests.jobs import DIALECTS, made

ROOT = Path(__file__).parents[2]


@contextmanager
def served(
    command: list[str], data: Path, env: dict | None = None, pace: int = 20
) -> Iterator[tuple[subprocess.Popen, str]]:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    process = subprocess.Popen(
        [*command, "demo", "--fresh", "--data", str(data), "--port", str(port), "--pace", str(pace)], env=env
    )
    address = f"http://127.0.0.1:{port}"
    try:
        for _ in range(150):
            try:
                if httpx.get(f"{address}/api/bench").status_code == 200:
                    break
            except httpx.TransportError:
                time.sleep(0.1)
        yield process, address
    finally:
        process.kill()
        process.wait()


def practised(address: str, seq: int) -> httpx.Response:
    """The practice plate's next answer; a practice machine that is still starting is asked again, as its sentence says."""
    for _ in range(240):
        answer = httpx.post(f"{address}/api/runs/r/tram/practice", json={"id": f"e{seq}", "seen_seq": seq}, timeout=60)
        if answer.status_code != 422 or answer.json()["code"] != "practice_away":
            break
        time.sleep(0.25)
    assert answer.status_code == 200, answer.text
    return answer


#: Two servers with their practice machines; tests/store kills a process that writes in every run of the tests.
@pytest.mark.slow
def test_a_run_survives_kill_nine(tmp_path: Path) -> None:
    command = [sys.executable, "-m", "ivory_table.cli"]
    body = {
        "id": "r",
        "machine_id": "heron",
        "plate_id": "heron-steel",
        "filament_id": "pla-white",
        "gauge_id": "copy-paper",
        "initials": "mk",
    }
    # The first answer of a fresh process may take its time on a machine that does other things as well.
    with served(command, tmp_path) as (process, address):
        httpx.post(f"{address}/api/runs", json=body, timeout=60)
        answer = [practised(address, seq) for seq in range(5)][-1]
        process.send_signal(signal.SIGKILL)
        process.wait()
    with served(command, tmp_path) as (_, address):
        again = httpx.get(f"{address}/api/runs/r/tram", timeout=60).json()
        assert again == answer.json()
        # The practice plate, too, is where it was: it goes on answering.
        more = practised(address, 5)
        assert more.json()["seq"] == 6


@pytest.mark.slow
@pytest.mark.skipif(not (ROOT / "src/ivory_table/web/index.html").exists(), reason="the front end is not built")
def test_the_wheel_alone_serves_the_demo_from_a_clean_venv(tmp_path: Path) -> None:
    """The dependencies are lent from the environment of the tests, so that no network is needed."""
    subprocess.run(
        [sys.executable, "-m", "build", "--wheel", "--no-isolation", "--outdir", str(tmp_path / "dist")],
        cwd=ROOT,
        check=True,
        capture_output=True,
    )
    wheel = next((tmp_path / "dist").glob("*.whl"))
    venv.create(tmp_path / "clean", with_pip=True)
    python = tmp_path / "clean/bin/python"
    subprocess.run([python, "-m", "pip", "install", "-q", "--no-deps", "--no-index", wheel], check=True)
    # On PYTHONPATH no .pth file is read: the checkout itself stays unseen.
    lent = os.environ | {"PYTHONPATH": sysconfig.get_paths()["purelib"]}
    where = subprocess.run(
        [python, "-c", "import ivory_table; print(ivory_table.__file__)"],
        env=lent,
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=True,
    )
    assert str(tmp_path / "clean") in where.stdout
    with served([str(tmp_path / "clean/bin/ivory-table")], tmp_path / "data", lent) as (_, address):
        page = httpx.get(address).text
        script = page.split('src="')[1].split('"')[0]
        assert httpx.get(address + script).status_code == 200
        assert len(httpx.get(f"{address}/api/bench").json()["machines"]) == 4
    shutil.rmtree(tmp_path / "clean")


def ends(*arguments: str) -> Result:
    """How `serve` ends that cannot begin."""
    return CliRunner().invoke(app, ["serve", *arguments])


def test_what_keeps_it_from_starting_is_one_sentence(tmp_path: Path) -> None:
    """A newer or broken database, a folder that cannot be made, a port that is taken: no traceback."""
    newer, broken = tmp_path / "newer", tmp_path / "broken"
    Workshop(newer / "workshop.db").close()
    with sqlite3.connect(newer / "workshop.db") as file:
        file.execute("insert into migratehistory (name, migrated_at) values ('999_from_the_future', '2030-01-01')")
    broken.mkdir()
    (broken / "workshop.db").write_bytes(b"this is no database" * 100)
    (tmp_path / "a file").write_text("")
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = str(taken.getsockname()[1])
        for wrong, words in (
            (ends("--data", str(newer), "--port", "18799"), "newer Ivory Table"),
            (ends("--data", str(broken), "--port", "18799"), "cannot be opened as a workshop"),
            (ends("--data", str(tmp_path / "a file" / "below"), "--port", "18799"), "cannot be made or used"),
            (ends("--data", str(tmp_path / "good"), "--port", port), f"Port {port} cannot be used"),
        ):
            assert wrong.exit_code == 1
            assert words in wrong.stderr
            assert isinstance(wrong.exception, SystemExit)
            assert len(wrong.stderr.strip().splitlines()) == 1


def test_a_job_is_checked_from_a_script(tmp_path: Path) -> None:
    workshop = Workshop(tmp_path / "workshop.db")
    furnish(workshop)
    workshop.close()
    clean, bad = made(DIALECTS[0]), made(DIALECTS[0])
    bad.without("bed off")
    worse = made(DIALECTS[0])
    worse.without("home")
    codes = []
    for name, m in (("clean", clean), ("bad", bad), ("worse", worse)):
        (tmp_path / name).write_text(m.text())
        done = CliRunner().invoke(app, ["check", str(tmp_path / name), "--machine", "Heron", "--data", str(tmp_path)])
        codes.append(done.exit_code)
    assert codes == [0, 2, 3]
    assert "It lays before it has homed" in done.output
    told = CliRunner().invoke(
        app, ["check", str(tmp_path / "bad"), "--machine", "heron", "--data", str(tmp_path), "--json"]
    )
    assert json.loads(told.output)["findings"][0]["code"] == "plate_left_hot"
    for arguments in (["nothere", "--machine", "Heron"], [str(tmp_path / "clean"), "--machine", "Nobody"]):
        wrong = CliRunner().invoke(app, ["check", *arguments, "--data", str(tmp_path)])
        assert wrong.exit_code == 1
        assert "." in wrong.output


def test_a_workshop_is_exported_and_imported(tmp_path: Path) -> None:
    one, two = tmp_path / "one", tmp_path / "two"
    for folder in (one, two):
        workshop = Workshop(folder / "workshop.db")
        furnish(workshop)
        workshop.close()
    away = tmp_path / "away.zip"
    assert CliRunner().invoke(app, ["export", str(away), "--data", str(one)]).exit_code == 0
    done = CliRunner().invoke(app, ["import", str(away), "--data", str(two)])
    assert done.exit_code == 0
    assert "0 runs are new" in done.output
    for command in (
        ["export", str(away), "--data", str(tmp_path / "nowhere")],
        ["export", str(away), "--data", str(one), "--machine", "nobody"],
        ["import", str(tmp_path / "nofile"), "--data", str(two)],
        ["import", str(one / "workshop.db"), "--data", str(two)],
    ):
        assert CliRunner().invoke(app, command).exit_code == 1


@pytest.mark.parametrize(
    "options",
    [
        ["--name", "bench.local"],
        ["--public", "https://bench.local"],
        ["--lan", "--certificate", "nofile.pem"],
        ["--lan", "--certificate", "nofile.pem", "--key", "nokey.pem"],
        ["--lan", "--public", "bench.local/path"],
    ],
)
def test_a_network_that_cannot_be_is_refused_in_a_sentence(tmp_path: Path, options: list[str]) -> None:
    refused = ends("--data", str(tmp_path), *options)
    assert refused.exit_code == 1
    assert refused.output.strip().endswith(".")
