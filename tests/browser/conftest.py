"""A served library with the demo film, and Chromium as the machine has it."""

from collections.abc import Iterator

import pytest
from serving import CHROMIUM, FLAGS, Server


@pytest.fixture(scope="session")
def browser_type_launch_args(browser_type_launch_args: dict) -> dict:
    return {**browser_type_launch_args, "executable_path": CHROMIUM, "args": FLAGS}


@pytest.fixture(scope="session")
def browser_context_args(browser_context_args: dict) -> dict:
    return {**browser_context_args, "viewport": {"width": 1280, "height": 800}}


@pytest.fixture(scope="session")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    served = Server(tmp_path_factory.mktemp("library"))
    served.start()
    yield served
    served.kill()
