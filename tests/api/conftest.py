"""A client for the served workshop."""

from collections.abc import Iterator

import httpx
import pytest

from tests.conftest import serving


@pytest.fixture(scope="module")
def address(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    with serving(tmp_path_factory.mktemp("served")) as at:
        yield at


@pytest.fixture
def http(address: str) -> Iterator[httpx.Client]:
    with httpx.Client(base_url=address, timeout=120) as client:
        yield client
