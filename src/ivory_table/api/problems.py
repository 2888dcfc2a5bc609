"""Every refusal has one shape: a stable code, a sentence, and the field it belongs beside."""

import logging
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from peewee import DatabaseError
from pydantic import BaseModel, Field
from starlette.exceptions import HTTPException

from ivory_table.program.job import NotAJob
from ivory_table.program.moved import CannotMend
from ivory_table.runs.doubts import Refused
from ivory_table.runs.row import Row
from ivory_table.store.trouble import Clash, Unknown, Unreadable


class Problem(BaseModel):
    """What is wrong and what would do."""

    code: str = Field(description="Stable and machine-readable.")
    message: str = Field(description="A sentence for the person at the machine.")
    field: str | None = Field(default=None, description="The field it belongs beside, when there is one.")
    insist: bool = Field(default=False, description="Whether it is kept all the same when sent again with `sure`.")


#: Every refusal has the same shape, whatever its status.
RESPONSES: dict[int | str, dict[str, Any]] = {"default": {"model": Problem, "description": "A refusal."}}


def problem(status: int, code: str, message: str, field: str | None = None, *, insist: bool = False) -> JSONResponse:
    found = Problem(code=code, message=message, field=field, insist=insist)
    return JSONResponse(found.model_dump(), status_code=status)


def install(app: FastAPI) -> None:
    """Teach an app to answer every known failure with a `Problem`."""

    @app.exception_handler(Refused)
    def refused(_: Request, wrong: Refused) -> JSONResponse:
        return problem(422, wrong.code, str(wrong), wrong.field, insist=wrong.insist)

    @app.exception_handler(Clash)
    def clash(_: Request, wrong: Clash) -> JSONResponse:
        return problem(409, wrong.code, str(wrong))

    @app.exception_handler(Unknown)
    def unknown(_: Request, wrong: Unknown) -> JSONResponse:
        return problem(404, "unknown_id", str(wrong).strip("'\""))

    @app.exception_handler(Unreadable)
    def unreadable(_: Request, wrong: Unreadable) -> JSONResponse:
        return problem(422, "unreadable_run", str(wrong))

    @app.exception_handler(NotAJob)
    def not_a_job(_: Request, wrong: NotAJob) -> JSONResponse:
        return problem(422, "not_a_job", str(wrong), "file")

    @app.exception_handler(CannotMend)
    def cannot_mend(_: Request, wrong: CannotMend) -> JSONResponse:
        return problem(422, "cannot_mend", str(wrong))

    @app.exception_handler(DatabaseError)
    @app.exception_handler(OSError)
    def not_written(_: Request, wrong: Exception) -> JSONResponse:
        logging.getLogger("ivory_table").error("not written: %s", wrong)
        return problem(
            507,
            "cannot_write",
            f"The folder of the workshop cannot be read or written ({_plain(wrong)}). Nothing was entered. "
            "Look whether the disk is full or write-protected, then do it again.",
        )

    @app.exception_handler(Exception)
    def unforeseen(_: Request, wrong: Exception) -> JSONResponse:
        return problem(
            500,
            "unforeseen",
            f"Something happened that nobody foresaw ({type(wrong).__name__}). Nothing was entered. "
            "Reload the page and try again; what was kept before is kept.",
        )

    @app.exception_handler(HTTPException)
    def http(_: Request, wrong: HTTPException) -> JSONResponse:
        code = {404: "no_such_page", 405: "wrong_method"}.get(wrong.status_code, "bad_request")
        return problem(wrong.status_code, code, str(wrong.detail))

    @app.exception_handler(RequestValidationError)
    def invalid(request: Request, wrong: RequestValidationError) -> JSONResponse:
        first = wrong.errors()[0]
        names = [str(p) for p in first["loc"] if isinstance(p, str)]
        name = names[-1] if len(names) > 1 else None
        if len(names) > 2 and request.url.path.startswith("/api/setup"):
            # In a set-up the same name stands in many places: the whole way to it.
            name = ".".join(str(p) for p in first["loc"][1:])
        return problem(422, f"invalid_{first['type']}", sentence(first), name)


def _plain(wrong: Exception) -> str:
    """What a failed write says, without the path."""
    return str(getattr(wrong, "strerror", None) or wrong).split(":")[0]


def sentence(error: Any) -> str:
    """A Pydantic error as a sentence that says what would do."""
    limits = error.get("ctx") or {}
    match error["type"]:
        case "finite_number":
            return "Give an ordinary number: not-a-number and infinity are not measurements."
        case "greater_than_equal":
            return f"This number is too small: {limits.get('ge')} is the least that can be meant."
        case "greater_than":
            return f"This number is too small: it must be more than {limits.get('gt')}."
        case "less_than_equal":
            return f"This number is too large: {limits.get('le')} is the most that can be meant."
        case "less_than":
            return f"This number is too large: it must be less than {limits.get('lt')}."
        case "bool_parsing" | "bool_type":
            return "Say true or false here."
        case "string_type":
            return "This must be a text."
        case "list_type" | "tuple_type":
            return "This must be a list."
        case "dict_type" | "model_type" | "model_attributes_type":
            return "This must be a group of named values."
        case "datetime_parsing" | "datetime_from_date_parsing" | "datetime_type" | "timezone_aware":
            return "Give a date and a time with its zone, such as 2026-03-02T12:00:00Z."
        case "float_parsing" | "float_type" | "int_parsing" | "int_type" | "int_from_float":
            return "This must be a number, such as 0.12."
        case "multiple_of":
            return "Turns are counted in whole or half marks."
        case "missing":
            return "Something is missing here."
        case "string_too_short" | "string_pattern_mismatch":
            return "Give a short text of ordinary letters here."
        case "string_too_long":
            return f"This text is too long; {limits.get('max_length')} characters are the most."
        case "too_short":
            return f"There are too few of these: {limits.get('min_length')} at least."
        case "too_long":
            return f"There are too many of these: {limits.get('max_length')} are the most."
        case "union_tag_invalid" if limits.get("tag") in Row.kinds:
            return f"This station does not take rows of that kind ({limits['tag'].replace('_', ' ')})."
        case "literal_error" | "union_tag_invalid" | "union_tag_not_found":
            return (
                f"This is not one of the known choices: {limits.get('expected') or limits.get('expected_tags') or ''}"
            )
        case "json_invalid":
            return "This is not readable JSON."
        case "extra_forbidden":
            return "There is a field here that is not known; perhaps the file is of another version."
        case "value_error":
            return str(error["msg"]).removeprefix("Value error, ")
        case _:
            return str(error["msg"])
