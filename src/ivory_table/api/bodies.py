"""Large files read away from the event loop, so that Stop is never behind one: first their shape, then what they say."""

import asyncio
from concurrent.futures import ThreadPoolExecutor
from typing import Any, TypeVar

from fastapi import Request
from fastapi.exceptions import RequestValidationError
from pydantic import BaseModel, ValidationError
from pydantic_core import from_json

from ivory_table.runs.doubts import Refused

_M = TypeVar("_M", bound=BaseModel)

#: One file at a time: reading JSON holds the interpreter, and others wait for it.
_READING = ThreadPoolExecutor(max_workers=1, thread_name_prefix="read")

#: No value of ours has so many fields, and no list but a run's rows is so long: what is beyond this is another file.
MOST_FIELDS = 64
MOST_ROWS = 5000
MOST_IN_LIST = 400
DEEPEST = 24


def described(model: type[BaseModel]) -> dict[str, Any]:
    """How the API describes a body that is read by `file_body`."""
    body = {"content": {"application/json": {"schema": {"$ref": f"#/components/schemas/{model.__name__}"}}}}
    return {"requestBody": {**body, "required": True}}


async def file_body(request: Request, model: type[_M]) -> _M:
    """The body of a request as one of our files. Raises Refused or RequestValidationError."""
    return await asyncio.get_running_loop().run_in_executor(_READING, _read, await request.body(), model)


def _read(body: bytes, model: type[_M]) -> _M:
    try:
        found = from_json(body)
    except ValueError:
        raise Refused("invalid_json_invalid", "This is not readable JSON.") from None
    _refuse_shape(found)
    try:
        return model.model_validate_json(body)
    except ValidationError as wrong:
        first = wrong.errors(include_url=False, include_input=False)[0]
        raise RequestValidationError([{**first, "loc": ("body", *first["loc"])}]) from None


def _refuse_shape(found: Any) -> None:
    """Raise Refused for what has a shape that none of our files has; each of its mistakes would be told otherwise."""
    todo: list[tuple[Any, int, int]] = [(found, 0, MOST_ROWS)]
    while todo:
        at, depth, most = todo.pop()
        if depth > DEEPEST:
            raise Refused("other_file", "This file is nested deeper than any of ours. Is it the right one?")
        if isinstance(at, dict):
            if len(at) > MOST_FIELDS:
                raise Refused("other_file", f"This file has {len(at):,} fields in one place. Is it the right one?")
            # The rows of a run or the machines of a set-up stand in the file itself.
            todo += [(v, depth + 1, MOST_ROWS if depth == 0 else MOST_IN_LIST) for v in at.values()]
        elif isinstance(at, list):
            if len(at) > most:
                raise Refused("other_file", f"This file has a list of {len(at):,} entries. Is it the right one?")
            todo += [(v, depth + 1, MOST_IN_LIST) for v in at]
