"""A client for the served workshop."""

from collections.abc import Iterator

import httpx
import pytest


@pytest.fixture
def http(address: str) -> Iterator[httpx.Client]:
    with httpx.Client(base_url=address, timeout=30) as client:
        yield client
