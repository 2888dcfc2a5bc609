"""The API over real HTTP: refusals with their codes, repeats, size, hosts, files."""

import json
from itertools import count

import httpx
import pytest

from ivory_table.runs.row import Row

_numbers = count(1)


def started(http: httpx.Client, machine: str = "heron", plate: str = "heron-steel") -> str:
    run_id = f"api-{next(_numbers)}"
    made = http.post(
        "/api/runs",
        json={
            "id": run_id,
            "machine_id": machine,
            "plate_id": plate,
            "filament_id": "pla-white",
            "gauge_id": "copy-paper",
            "initials": "mk",
        },
    )
    assert made.status_code == 201, made.text
    return run_id


def keep(http: httpx.Client, run_id: str, station: str, what: dict, **more: object) -> httpx.Response:
    seq = http.get(f"/api/runs/{run_id}/head").json()["seq"]
    body = {"id": f"{run_id}-{seq + 1}", "seen_seq": seq, "what": what} | more
    return http.post(
        f"/api/runs/{run_id}/{station}", content=json.dumps(body), headers={"content-type": "application/json"}
    )


def test_a_reading_comes_back_as_new_advice(http: httpx.Client) -> None:
    run_id = started(http)
    keep(http, run_id, "tram", {"kind": "sense_tried", "screw": "front left", "felt": "tighter"})
    answer = keep(http, run_id, "tram", {"kind": "counted", "screw": "front left", "marks": 4})
    assert answer.status_code == 200
    # As it stands there is nothing to add: what comes next is asked at once, and it is said that this one is left.
    assert answer.json()["step"] in ("further", "count")
    assert (answer.json()["further"] is None) == (answer.json()["left"] == "front left")
    assert answer.json()["seq"] == 2


@pytest.mark.parametrize(
    ("what", "code", "field"),
    [
        ({"kind": "counted", "screw": "front left", "marks": float("nan")}, "invalid_finite_number", "marks"),
        ({"kind": "counted", "screw": "front left", "marks": 1e9}, "invalid_less_than_equal", "marks"),
        ({"kind": "counted", "screw": "front left", "marks": "four"}, "invalid_float_parsing", "marks"),
        ({"kind": "counted", "screw": "front left", "marks": 0.3}, "invalid_multiple_of", "marks"),
        ({"kind": "counted", "screw": "front left"}, "invalid_missing", "marks"),
        ({"kind": "counted", "screw": "middle", "marks": 1}, "not_possible", "what"),
        (
            {"kind": "felt", "x_mm": float("inf"), "y_mm": 0, "z_mm": 0, "feel": "drag"},
            "invalid_finite_number",
            "x_mm",
        ),
        ({"kind": "felt", "x_mm": 500, "y_mm": 0, "z_mm": 0, "feel": "drag"}, "not_possible", "what"),
        ({"kind": "felt", "x_mm": 40, "y_mm": 40, "z_mm": 0, "feel": "drag"}, "not_at_the_middle", "x_mm"),
        ({"kind": "felt", "x_mm": 0, "y_mm": 0, "z_mm": 0, "feel": "silky"}, "invalid_literal_error", "feel"),
        ({"kind": "guessed"}, "invalid_union_tag_invalid", "what"),
        ({"kind": "offset_set", "stored_mm": 1e9}, "invalid_less_than_equal", "stored_mm"),
        ({"kind": "judged", "zone": 0, "grade": "sound"}, "not_possible", "what"),
        ({"kind": "judged", "zone": 0}, "invalid_value_error", "judged"),
        ({"kind": "taken_back", "entry_id": "nobody"}, "nothing_to_take_back", "entry_id"),
        ({"kind": "turned_all", "marks": [1, 2, 3]}, "not_possible", "what"),
        ({"kind": "mesh_point", "column": 0, "row": 0, "height_mm": 0}, "not_possible", "what"),
        ({"kind": "mesh_used", "on": True}, "not_possible", "what"),
        ({"kind": "judged", "zone": 0, "signs": ["glows"]}, "invalid_literal_error", "signs"),
        ({"kind": "judged", "zone": 99, "grade": "sound"}, "invalid_less_than", "zone"),
        ({"kind": "judged", "zone": 0, "short_mm": float("nan")}, "invalid_finite_number", "short_mm"),
        ({"kind": "zone_skipped", "zone": 1}, "not_possible", "what"),
        ({"kind": "cause_mended", "cause": "moon"}, "invalid_literal_error", "cause"),
        ({"kind": "feed_measured", "measured_mm": []}, "invalid_too_short", "measured_mm"),
        ({"kind": "feed_measured", "measured_mm": [1.0]}, "feed_doubtful", "measured_mm"),
        ({"kind": "feed_corrected", "times": 0}, "invalid_greater_than_equal", "times"),
        ({"kind": "feed_measured", "measured_mm": [0]}, "invalid_greater_than", "measured_mm"),
        ({"kind": "feed_measured", "measured_mm": 98}, "invalid_tuple_type", "measured_mm"),
        ({"kind": "cause_looked_for", "cause": "coat", "found": True}, "not_possible", "what"),
        ({"kind": "cause_looked_for", "cause": "fan", "found": "perhaps"}, "invalid_bool_parsing", "found"),
        ({"kind": "cause_looked_for", "cause": "fan", "found": []}, "invalid_bool_type", "found"),
        ({"kind": "tip_felt_at", "tip_c": 900, "drag_z_mm": 0}, "invalid_less_than_equal", "tip_c"),
        ({"kind": "tip_heat_counted", "heat": 0.0004}, "invalid_model_attributes_type", "heat"),
        (
            {"kind": "heated", "bed_c": 60, "nozzle_c": 200, "held_since": "noon"},
            "invalid_datetime_from_date_parsing",
            "held_since",
        ),
        ({"kind": "taken_back", "entry_id": 7}, "invalid_string_type", "entry_id"),
    ],
)
def test_bad_input_gets_a_sentence_a_code_and_its_field(http: httpx.Client, what: dict, code: str, field: str) -> None:
    run_id = started(http)
    kind = Row.kinds.get(what["kind"])
    refused = keep(http, run_id, kind.stations[0] if kind else "tram", what)
    assert refused.status_code == 422, refused.text
    problem = refused.json()
    assert problem["code"] == code
    assert problem["field"] == field
    assert len(problem["message"]) > 15
    # A sentence of ours, not of the library that found it.
    assert "Input should" not in problem["message"]
    assert http.get(f"/api/runs/{run_id}/head").json()["seq"] == 0


def test_an_address_takes_its_station_s_rows_and_no_others(http: httpx.Client) -> None:
    run_id = started(http)
    description = http.get("/api/openapi.json").json()["components"]["schemas"]
    for station in ("prepare", "tram", "mesh", "offset", "first_layer", "sign_off"):
        body = description[f"Keep{''.join(p.title() for p in station.split('_'))}"]["properties"]["what"]
        taken = set(body["discriminator"]["mapping"])
        assert taken == {name for name, kind in Row.kinds.items() if station in kind.stations}
        assert "taken_back" in taken
    refused = keep(http, run_id, "prepare", {"kind": "counted", "screw": "front left", "marks": 1})
    assert refused.status_code == 422
    assert refused.json()["message"].startswith("This station does not take rows of that kind")


@pytest.mark.parametrize(
    ("method", "path"),
    [("GET", "/api/runs/nobody/tram"), ("GET", "/api/runs/nobody/file"), ("POST", "/api/runs/nobody/tram")],
)
def test_an_unknown_run_is_said_to_be_unknown(http: httpx.Client, method: str, path: str) -> None:
    body = {"id": "x", "seen_seq": 0, "what": {"kind": "turned", "screw": "front left", "marks": 1}}
    answer = http.request(method, path, json=body if method == "POST" else None)
    assert answer.status_code == 404
    assert answer.json()["code"] == "unknown_id"


def test_repeats_are_harmless_and_a_stale_tab_is_told(http: httpx.Client) -> None:
    run_id = started(http)
    what = {"kind": "check_done", "check": "homed", "outcome": "done"}
    body = {"id": "same", "seen_seq": 0, "what": what}
    first = http.post(f"/api/runs/{run_id}/prepare", json=body | {"id": f"{run_id}-a"})
    again = http.post(f"/api/runs/{run_id}/prepare", json=body | {"id": f"{run_id}-a"})
    assert first.json()["seq"] == again.json()["seq"] == 1
    stale = http.post(f"/api/runs/{run_id}/prepare", json=body | {"id": f"{run_id}-b"})
    assert (stale.status_code, stale.json()["code"]) == (409, "run_moved_on")


def test_a_row_of_another_run_does_not_slip_in_under_its_id(http: httpx.Client) -> None:
    one, two = started(http), started(http)
    what = {"kind": "check_done", "check": "homed", "outcome": "done"}
    assert keep(http, one, "prepare", what, id="shared").status_code == 200
    taken = keep(http, two, "prepare", what, id="shared")
    assert (taken.status_code, taken.json()["code"]) == (409, "entry_id_taken")
    assert http.get(f"/api/runs/{two}/head").json()["seq"] == 0


def test_practice_asked_twice_acts_once(http: httpx.Client) -> None:
    run_id = started(http)
    ask = {"id": f"{run_id}-ask", "seen_seq": 0}
    first = http.post(f"/api/runs/{run_id}/tram/practice", json=ask)
    again = http.post(f"/api/runs/{run_id}/tram/practice", json=ask)
    assert first.json()["seq"] == again.json()["seq"] == 1


def test_a_run_travels_as_a_file_and_comes_back_the_same(http: httpx.Client) -> None:
    run_id = started(http)
    for _ in range(5):
        seq = http.get(f"/api/runs/{run_id}/head").json()["seq"]
        http.post(f"/api/runs/{run_id}/tram/practice", json={"id": f"{run_id}-{seq}", "seen_seq": seq})
    file = http.get(f"/api/runs/{run_id}/file").json()
    assert http.post("/api/runs/import", json=file).json() == {"id": run_id, "new": False}
    moved = json.loads(json.dumps(file).replace(run_id, f"{run_id}-moved"))
    assert http.post("/api/runs/import", json=moved).json() == {"id": f"{run_id}-moved", "new": True}
    here, there = (
        json.loads(http.get(f"/api/runs/{r}/tram").text.replace(f"{run_id}-moved", run_id))
        for r in (run_id, f"{run_id}-moved")
    )
    assert {k: v for k, v in here.items() if k != "head"} == {k: v for k, v in there.items() if k != "head"}


@pytest.mark.parametrize(
    ("change", "code"),
    [
        ({"version": 99}, "other_version"),
        ({"format": "something-else"}, "invalid_literal_error"),
        ({"entries": "rows"}, "invalid_tuple_type"),
        ({"surprise": 1}, "invalid_extra_forbidden"),
    ],
)
def test_a_file_that_is_no_run_of_ours_is_refused(http: httpx.Client, change: dict, code: str) -> None:
    file = http.get(f"/api/runs/{started(http)}/file").json() | change
    refused = http.post("/api/runs/import", json=file)
    assert (refused.status_code, refused.json()["code"]) == (422, code)


def test_a_file_with_a_row_missing_or_impossible_is_refused(http: httpx.Client) -> None:
    run_id = started(http)
    for marks in (1, 2):
        keep(http, run_id, "tram", {"kind": "turned", "screw": "rear left", "marks": marks})
    file = json.loads(http.get(f"/api/runs/{run_id}/file").text.replace(run_id, f"{run_id}-x"))
    hole = file | {"entries": file["entries"][1:]}
    assert http.post("/api/runs/import", json=hole).json()["code"] == "rows_missing"
    file["entries"][0]["what"]["screw"] = "middle"
    wrong = http.post("/api/runs/import", json=file).json()
    assert wrong["code"] == "cannot_replay"
    assert "Row 1" in wrong["message"]


def test_giants_are_turned_away(http: httpx.Client) -> None:
    giant = http.post("/api/runs/import", content=b"[" + b"0," * 26_000_000 + b"0]")
    assert (giant.status_code, giant.json()["code"]) == (413, "too_large")

    def drip():  # without a length said beforehand
        for _ in range(80):
            yield b" " * 65536

    assert http.post("/api/runs/import", content=drip()).status_code == 413


def test_only_this_machine_and_its_own_pages_are_answered(http: httpx.Client) -> None:
    foreign = http.get("/api/bench", headers={"host": "ivory.example"})
    assert (foreign.status_code, foreign.json()["code"]) == (400, "foreign_host")
    assert http.get("/api/bench", headers={"host": f"localhost:{http.base_url.port}"}).status_code == 200
    other = http.post("/api/runs", json={}, headers={"origin": "http://ivory.example"})
    assert (other.status_code, other.json()["code"]) == (403, "foreign_origin")


def test_the_page_allows_no_inline_script_and_a_fresh_nonce_each_time(http: httpx.Client) -> None:
    pages = [http.get("/runs/any/tram") for _ in range(2)]
    policies = [p.headers["content-security-policy"] for p in pages]
    assert policies[0] != policies[1]
    for page, policy in zip(pages, policies, strict=True):
        assert "script-src 'self';" in policy
        assert "unsafe" not in policy
        nonce = policy.split("'nonce-")[1].split("'")[0]
        assert nonce in page.text
        assert "<script>" not in page.text


def test_files_are_downloads(http: httpx.Client) -> None:
    run_id = started(http)
    program = http.get(f"/api/runs/{run_id}/proof.gcode", params={"zones": 9})
    assert "attachment" in program.headers["content-disposition"]
    assert "; patch 9: rear right" in program.text
    assert http.get(f"/api/runs/{run_id}/readings.csv").headers["content-type"].startswith("text/csv")
    assert http.get(f"/api/runs/{run_id}/mesh.csv").json()["code"] == "no_mesh"
    assert http.get(f"/api/runs/{run_id}/proof.gcode", params={"zones": 6}).status_code == 422
    again = http.get(f"/api/runs/{run_id}/proof.gcode", params={"zones": 9})
    assert (again.content, again.headers["content-disposition"]) == (
        program.content,
        program.headers["content-disposition"],
    )
    alone = http.get(f"/api/runs/{run_id}/proof.gcode", params={"zones": 5, "only": [1, 3]})
    assert alone.text.count("; patch ") == 2
    assert (
        http.get(f"/api/runs/{run_id}/proof.gcode", params={"zones": 5, "only": [7]}).json()["code"] == "no_such_zone"
    )
    assert http.get(f"/api/runs/{run_id}/proof.stl", params={"zones": 5}).content[80:84] != b""
    assert http.get(f"/api/runs/{run_id}/proof.3mf", params={"zones": "rim"}).content[:2] == b"PK"
    assert http.get(f"/api/runs/{run_id}/proof.stl", params={"zones": "ladder"}).json()["code"] == "no_shape"


@pytest.mark.parametrize(
    ("sides", "code"),
    [
        ({"width_mm": "nan", "depth_mm": 10}, "invalid_finite_number"),
        ({"width_mm": 0, "depth_mm": 10}, "invalid_greater_than"),
        ({"width_mm": 1e9, "depth_mm": 10}, "invalid_less_than_equal"),
        ({"width_mm": 10}, "invalid_missing"),
        ({"width_mm": 10, "depth_mm": 10, "count": 1000}, "invalid_less_than_equal"),
    ],
)
def test_an_impossible_footprint_is_refused_in_a_sentence(http: httpx.Client, sides: dict, code: str) -> None:
    refused = http.get(f"/api/runs/{started(http)}/placing", params=sides)
    assert (refused.status_code, refused.json()["code"]) == (422, code)
    assert len(refused.json()["message"]) > 15


def test_the_smallest_part_and_one_as_large_as_a_hall_are_answered(http: httpx.Client) -> None:
    run_id = started(http)
    tiny = http.get(f"/api/runs/{run_id}/placing", params={"width_mm": 0.001, "depth_mm": 0.001, "count": 36}).json()
    assert len(tiny["placing"]["places"]) == 36
    huge = http.get(f"/api/runs/{run_id}/placing", params={"width_mm": 1000, "depth_mm": 1000}).json()
    assert (huge["placing"]["places"], huge["placing"]["left_over"]) == ([], 1)
    assert len(http.get(f"/api/runs/{run_id}/recipe").json()["recipes"]) >= 3


def test_a_machine_that_is_not_practice_gives_its_readings_to_nobody(http: httpx.Client) -> None:
    run_id = started(http)
    file = json.loads(http.get(f"/api/runs/{run_id}/file").text.replace(run_id, f"{run_id}-real"))
    file["setup"]["machine"]["practice"] = False
    http.post("/api/runs/import", json=file)
    refused = http.post(f"/api/runs/{run_id}-real/tram/practice", json={"id": "q", "seen_seq": 0})
    assert refused.json()["code"] == "not_practice"
