"""Set-up over HTTP: kept, refused beside its field, shared; two tabs do not overwrite each other."""

import httpx
import pytest


def machine(http: httpx.Client, wanted: str = "wren") -> dict:
    return next(k for k in http.get("/api/setup").json()["machines"] if k["machine"]["id"] == wanted)


def put(http: httpx.Client, kept: dict, **part: object) -> httpx.Response:
    body = {"machine": kept["machine"] | part, "seen_revision": kept["revision"]}
    return http.put(f"/api/setup/machines/{kept['machine']['id']}", json=body)


def test_a_machine_is_changed_and_a_second_tab_is_told(http: httpx.Client) -> None:
    kept = machine(http)
    assert put(http, kept, z_step_mm=0.005).status_code == 200
    assert machine(http)["machine"]["z_step_mm"] == 0.005
    late = put(http, kept, z_step_mm=0.02)
    assert (late.status_code, late.json()["code"]) == (409, "machine_changed")
    assert machine(http)["machine"]["z_step_mm"] == 0.005


def test_a_pitch_of_nothing_is_refused_beside_its_field(http: httpx.Client) -> None:
    kept = machine(http)
    screws = [s | {"pitch_mm": 0} for s in kept["machine"]["screws"]]
    wrong = put(http, kept, screws=screws)
    assert wrong.status_code == 422
    assert wrong.json()["field"] == "machine.screws.0.pitch_mm"
    assert "too small" in wrong.json()["message"]


def test_screws_on_one_line_are_refused_with_a_sentence(http: httpx.Client) -> None:
    kept = machine(http)
    screws = [s | {"x_mm": 20 + 40 * k, "y_mm": 20 + 40 * k} for k, s in enumerate(kept["machine"]["screws"])]
    wrong = put(http, kept, screws=screws)
    assert "lie on one line" in wrong.json()["message"]


@pytest.mark.parametrize(
    ("body", "sentence"),
    [
        ({"id": "g1", "name": "paper", "stack_mm": 1.6}, "both its height and how many"),
        ({"id": "g1", "name": "", "stack_mm": 1.6, "stack_sheets": 16}, "short text"),
        ({"id": "g1", "name": "paper", "stack_mm": -1, "stack_sheets": 16}, "too small"),
    ],
)
def test_a_gauge_that_cannot_be_is_refused(http: httpx.Client, body: dict, sentence: str) -> None:
    wrong = http.put("/api/setup/gauges", json=body)
    assert wrong.status_code == 422
    assert sentence in wrong.json()["message"]


def test_a_folded_stack_tells_one_sheet(http: httpx.Client) -> None:
    made = http.put("/api/setup/gauges", json={"id": "g2", "name": "thin", "stack_mm": 1.28, "stack_sheets": 16})
    gauge = next(g for g in made.json()["gauges"] if g["id"] == "g2")
    assert (gauge["thickness_mm"], gauge["measured"]) == (0.08, True)


def test_two_people_do_not_sign_alike(http: httpx.Client) -> None:
    wrong = http.put("/api/setup/people", json={"id": "p2", "name": "Maro", "initials": "mk"})
    assert wrong.json() == {
        "code": "initials_taken",
        "message": "Mika signs with mk already. Choose others.",
        "field": "initials",
        "insist": False,
    }


def test_the_set_up_goes_out_and_comes_back(http: httpx.Client) -> None:
    file = http.get("/api/setup/file").json()
    told = http.post("/api/setup/import", json=file).json()
    assert told["new"] == []
    assert told["left_alone"] == []
    assert http.post("/api/setup/import", json={"format": "else"}).status_code == 422


def test_a_symmetric_set_is_made_by_the_server(http: httpx.Client) -> None:
    plate = machine(http)["machine"]["plates"][0]
    asked = {"plate": plate, "x_mm": 20, "y_mm": 20, "opposite_x_mm": 150, "opposite_y_mm": 150, "count": 6}
    assert len(http.post("/api/setup/symmetric", json=asked).json()["screws"]) == 6
    wrong = http.post("/api/setup/symmetric", json=asked | {"opposite_x_mm": 25})
    assert "too close" in wrong.json()["message"]


def test_a_retired_machine_leaves_the_bench(http: httpx.Client) -> None:
    kept = machine(http, "kestrel")
    put(http, kept, retired=True)
    assert "kestrel" not in {m["machine"]["id"] for m in http.get("/api/bench").json()["machines"]}
    put(http, machine(http, "kestrel"), retired=False)
    assert "kestrel" in {m["machine"]["id"] for m in http.get("/api/bench").json()["machines"]}


def test_a_first_machine_needs_a_few_answers_only(http: httpx.Client) -> None:
    """Knobs lie on the plate, whatever its shape; a number whose direction nobody knows is not stored."""
    for k, (shape, knobs) in enumerate((s, n) for s in ("rectangle", "round") for n in (0, 3, 4)):
        body = {
            "id": f"first-{k}",
            "name": f"First {k}",
            "shape": shape,
            "width_mm": 180,
            "depth_mm": 300,
            "knobs": knobs,
        }
        made = http.post("/api/setup/first", json=body)
        assert made.status_code == 201, made.text
        machine = next(m["machine"] for m in made.json()["machines"] if m["machine"]["id"] == f"first-{k}")
        assert len(machine["screws"]) == knobs
        assert machine["convention"] == "live_only"
        assert {s["pitch_mm"] for s in machine["screws"]} <= {0.7}
        run = {"id": f"run-{k}", "machine_id": f"first-{k}", "plate_id": f"first-{k}-plate", "initials": "mk"}
        started = http.post("/api/runs", json=run | {"filament_id": "pla-white", "gauge_id": "copy-paper"})
        assert started.status_code == 201, started.text
        assert http.get(f"/api/runs/run-{k}/tram").json()["step"] == ("sense" if knobs else "no_knobs")
    threaded = http.post("/api/setup/first", json=body | {"id": "thin", "name": "Thin", "thread": "M3"})
    machine = next(m["machine"] for m in threaded.json()["machines"] if m["machine"]["id"] == "thin")
    assert {s["pitch_mm"] for s in machine["screws"]} == {0.5}
    assert http.post("/api/setup/first", json=body | {"id": "thick", "thread": "M9"}).status_code == 422
    again = http.post("/api/setup/first", json=body)
    assert again.status_code in (409, 422)
    assert http.post("/api/setup/first", json=body | {"id": "wide", "width_mm": 5000}).status_code == 422
