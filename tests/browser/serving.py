"""A served library for the browser, and how Chromium is started; shared by tests, screenshots and by hand."""

import os
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

ROOT = Path(__file__).resolve().parents[2]
CHROMIUM = "/usr/bin/chromium"
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]


class Server:
    """A served library that can be stopped hard and started again."""

    def __init__(self, library: Path, *, finished: bool = False) -> None:
        self.library = library
        self.finished = finished
        self.process: subprocess.Popen[str] | None = None
        self.url = ""

    def start(self) -> None:
        code = "from gentle_veil.cli.main import main; main()"
        words = ["serve", "--demo", "--port", "0", "--library", str(self.library)]
        words += ["--finished"] if self.finished else []
        environment = {**os.environ, "PYTHONUNBUFFERED": "1"}
        self.process = subprocess.Popen(
            [sys.executable, "-c", code, *words], stdout=subprocess.PIPE, text=True, env=environment, cwd=ROOT
        )
        assert self.process.stdout is not None
        line = self.process.stdout.readline()
        self.url = line.split(" at ")[1].strip()
        deadline = time.monotonic() + 30
        while time.monotonic() < deadline:
            try:
                urllib.request.urlopen(self.url + "api/jobs", timeout=2).read()
                return
            except OSError:
                time.sleep(0.1)
        raise AssertionError("the server did not start")

    def kill(self) -> None:
        """As a crash would: nothing is closed."""
        assert self.process is not None
        self.process.kill()
        self.process.wait()
        if self.process.stdout is not None:
            self.process.stdout.close()
