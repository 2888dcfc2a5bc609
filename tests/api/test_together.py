"""Several at once: two threads, two servers on one file, many machines; and files that go out and come back."""

import csv
import io
import threading
from pathlib import Path

import httpx
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.grid_text import read_grid
from ivory_table.core.mesh import MeshGrid, MeshSurvey
from ivory_table.desk.desk import Desk, Keep, StartRun
from ivory_table.stations import mesh, sign_off
from ivory_table.stations.mesh.entries import MeshKept
from ivory_table.stations.tram.slice import Tram
from ivory_table.stations.turned import Turned
from ivory_table.store.trouble import Clash
from ivory_table.store.workshop import Workshop
from tests.conftest import serving
from tests.stations.keeping import keep, start

START = {
    "machine_id": "heron",
    "plate_id": "heron-steel",
    "filament_id": "pla-white",
    "gauge_id": "copy-paper",
    "initials": "mk",
}


def test_of_two_tabs_that_answer_at_once_one_is_kept_and_one_is_told(tmp_path: Path) -> None:
    with serving(tmp_path) as address:
        httpx.post(f"{address}/api/runs", json=START | {"id": "r"})
        answers: list[httpx.Response] = []

        def answer(name: str) -> None:
            what = {"kind": "turned", "screw": "rear left", "marks": 1}
            body = {"id": name, "seen_seq": 0, "what": what}
            answers.append(httpx.post(f"{address}/api/runs/r/tram", json=body, timeout=120))

        threads = [threading.Thread(target=answer, args=(f"t{k}",)) for k in range(8)]
        for t in threads:
            t.start()
        for t in threads:
            t.join()
        assert sorted(a.status_code for a in answers) == [200] + [409] * 7
        assert {a.json()["code"] for a in answers if a.status_code == 409} == {"run_moved_on"}
        assert httpx.get(f"{address}/api/runs/r/head").json()["seq"] == 1


def test_the_same_request_from_many_threads_is_kept_once(tmp_path: Path) -> None:
    with serving(tmp_path) as address:
        httpx.post(f"{address}/api/runs", json=START | {"id": "r"})
        codes: list[int] = []

        def answer() -> None:
            what = {"kind": "turned", "screw": "rear left", "marks": 1}
            body = {"id": "same", "seen_seq": 0, "what": what}
            codes.append(httpx.post(f"{address}/api/runs/r/tram", json=body, timeout=120).status_code)

        threads = [threading.Thread(target=answer) for _ in range(6)]
        for t in threads:
            t.start()
        for t in threads:
            t.join()
        assert codes == [200] * 6
        assert httpx.get(f"{address}/api/runs/r/head").json()["seq"] == 1


def test_two_desks_on_one_file_see_each_other(workshop: Workshop) -> None:
    one, two = Desk(workshop), Desk(workshop)
    start(one, "heron")
    keep(one, "tram", Turned(screw="rear left", marks=1))
    assert two.open("run").seq == 1
    keep(two, "tram", Turned(screw="rear right", marks=2))
    with pytest.raises(Clash, match="another tab"):
        one.keep("run", "tram", Keep(id="late", seen_seq=1, what=Turned(screw="front left", marks=1)))
    assert [s.screw for s in Tram.of(one.open("run").state).stops] == [2, 3]


def test_two_machines_at_once_keep_their_own_advice(tmp_path: Path) -> None:
    with serving(tmp_path) as address, httpx.Client(base_url=address, timeout=120) as http:
        plates = {"heron": "heron-steel", "wren": "wren-sheet"}
        for name, plate in plates.items():
            http.post("/api/runs", json=START | {"id": name, "machine_id": name, "plate_id": plate})
        for k in range(4):
            for name in plates:
                ask = {"id": f"{name}{k}", "seen_seq": k}
                assert http.post(f"/api/runs/{name}/tram/practice", json=ask).status_code == 200
        for name in plates:
            view = http.get(f"/api/runs/{name}/tram").json()
            head = http.get(f"/api/runs/{name}/head").json()
            known = {s["name"] for s in head["machine"]["screws"]}
            assert {s["screw"] for s in view["stops"]} <= known
            assert view["seq"] == 4


values = st.floats(-0.5, 0.5).map(lambda v: round(v, 3))


@given(st.integers(2, 6), st.integers(2, 6), st.data())
def test_an_exported_mesh_is_read_back_the_same(nx: int, ny: int, data: st.DataObject) -> None:
    grid = MeshGrid(xs_mm=tuple(20.0 + 30 * k for k in range(nx)), ys_mm=tuple(20.0 + 30 * k for k in range(ny)))
    rows = tuple(tuple(data.draw(values) for _ in range(nx)) for _ in range(ny))
    out = io.StringIO()
    table = csv.writer(out)
    table.writerow(["", *grid.xs_mm])
    for y, row in zip(grid.ys_mm, rows, strict=True):
        table.writerow([y, *row])
    found = read_grid(out.getvalue())
    assert found.xs_mm == grid.xs_mm
    assert found.ys_mm == grid.ys_mm
    assert found.heights_mm == rows


def test_the_meshs_own_file_is_read_back_the_same(desk: Desk) -> None:
    run = start(desk, "wren")
    grid = MeshGrid(xs_mm=(20, 86, 152), ys_mm=(20, 86, 152))
    heights = tuple(tuple(row) for row in np.arange(9).reshape(3, 3) / 100)
    survey = MeshSurvey(grid=grid, heights_mm=heights, owns_zero=False, plate_id=run.setup.plate_id)
    text = mesh.files.mesh_csv(keep(desk, "mesh", MeshKept(survey=survey)))
    found = read_grid(text)
    assert (found.xs_mm, found.ys_mm) == (grid.xs_mm, grid.ys_mm)
    assert np.allclose(found.heights_mm, heights)


def test_no_cell_of_the_readings_is_a_formula(desk: Desk) -> None:
    desk.start(StartRun.model_validate(START | {"id": "evil", "initials": "=1+1"}))
    run = keep(desk, "tram", Turned(screw="rear left", marks=1), "evil")
    rows = list(csv.DictReader(io.StringIO(sign_off.files.readings_csv(run))))
    assert rows[0]["by"] == "'=1+1"
