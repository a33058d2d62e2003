"""Runs job rows on an executor, and takes up what a crash has left."""

import logging
import multiprocessing
import os
import threading
import time
from concurrent.futures import Executor, Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from sqlalchemy import select

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.errors import CancelledError, NotFoundError, VeilError
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.jobs.context import JobContext
from gentle_veil.jobs.handlers import HANDLERS
from gentle_veil.jobs.overtaking import overtakes
from gentle_veil.services.library import Library
from gentle_veil.store.tables import DeliveryRow, JobRow, now

MAX_ATTEMPTS = 3
WORKERS = 2
WARM_AFTER_SECONDS = 3.0
# Work that nobody waits for has a worker of its own, so that it never stands in the way of what somebody asked for.
BACKGROUND = ("analyse",)
log = logging.getLogger(__name__)
_libraries: dict[str, Library] = {}


def _warm() -> None:
    """Worker start: one thread a worker for the numeric libraries, and an end with its server."""
    threading.Thread(target=_end_with, args=(os.getppid(),), daemon=True).start()
    cv2.setNumThreads(1)
    os.nice(5)  # the one who scrubs goes before the one who computes


def _end_with(server: int) -> None:
    """A worker whose server was killed must not go on: the next server takes its job up again."""
    while os.getppid() == server:
        time.sleep(0.5)
    os._exit(1)


def _warm_background() -> None:
    _warm()
    os.nice(10)


def process_pool(background: bool) -> Executor:
    """The default executor: fresh processes, so that a crash of one harms nobody else."""
    context = multiprocessing.get_context("spawn")
    if background:
        return ProcessPoolExecutor(1, context, initializer=_warm_background)
    return ProcessPoolExecutor(WORKERS, context, initializer=_warm)


def run_job(root: str, job_id: int) -> None:
    """Run one job to its end; its outcome is in its row. This is what a worker executes."""
    library = _libraries.setdefault(root, Library(Path(root)))
    with library.db.session() as session:
        row = session.get(JobRow, job_id)
        if row is None or row.state not in ("pending", "running"):
            return
        if row.stop_asked:
            row.state, row.finished = "cancelled", now()
            return
        row.state, row.started, row.beat = "running", now(), now()
        row.attempts += 1
        kind, shot_id, arguments = row.kind, row.shot_id, dict(row.arguments)
    outcome: dict[str, Any] = {"state": "done"}
    try:
        if shot_id is None:
            raise NotFoundError("The shot of this job is gone.")
        context = JobContext(library, job_id)
        outcome["result"] = HANDLERS[kind](context, library.workspace(shot_id), shot_id, arguments)
    except CancelledError:
        outcome = {"state": "cancelled"}
    except VeilError as fault:
        outcome = {"state": "failed", "error": fault.message}
    except Exception as fault:
        log.exception("job %s failed", job_id)
        outcome = {
            "state": "failed",
            "error": f"The program failed ({type(fault).__name__}: {fault}); please report it.",
        }
    with library.db.session() as session:
        row = session.get(JobRow, job_id)
        if row is not None:
            row.finished = now()
            if outcome["state"] == "done":
                row.done = row.total = max(row.total, 1)
            for name, value in outcome.items():
                setattr(row, name, value)


class JobRunner:
    """Hands rows to an executor. Give ``InlineExecutor()`` to run them at once, in tests and scripts."""

    def __init__(self, library: Library, executor: Executor | None = None) -> None:
        self.library = library
        self._given = executor
        self._pools: dict[bool, Executor] = {}
        self._lock = threading.Lock()

    def start(self) -> None:
        """Warm the workers, and take up jobs that were not finished when the program last stopped."""
        with self.library.db.session() as session:
            left = session.scalars(select(JobRow).where(JobRow.state.in_(("pending", "running")))).all()
            for row in left:
                self._requeue(row)
        for row in left:
            if row.state == "pending":
                self._hand_over(row.id)

    @staticmethod
    def _requeue(row: JobRow) -> None:
        if row.attempts >= MAX_ATTEMPTS:
            row.state, row.finished = "failed", now()
            row.error = f"The program stopped {MAX_ATTEMPTS} times during this; start it again by hand if you want."
        else:
            row.state = "pending"

    def submit(self, kind: str, shot_id: int, title: str, arguments: dict[str, Any]) -> int:
        """Queue a job, or find the same one queued or running already; returns its id.

        What it overtakes is stopped: nobody looks at it any more.
        """
        with self.library.db.session() as session:
            self.library.shot(session, shot_id)
            same = session.scalars(
                select(JobRow).where(
                    JobRow.kind == kind, JobRow.shot_id == shot_id, JobRow.state.in_(("pending", "running"))
                )
            ).all()
            for row in same:
                if row.arguments == arguments and not row.stop_asked:
                    return row.id
                if overtakes(self.library, shot_id, kind, arguments, row.arguments):
                    row.stop_asked = True
                    if row.state == "pending":
                        row.state, row.finished = "cancelled", now()
            row = JobRow(kind=kind, shot_id=shot_id, title=title[:200], arguments=arguments)
            session.add(row)
            session.flush()
            job_id = row.id
        self._hand_over(job_id)
        return job_id

    def cancel(self, job_id: int) -> None:
        """Ask a job to stop; one that has not begun stops at once."""
        with self.library.db.session() as session:
            row = session.get(JobRow, job_id)
            if row is None:
                raise NotFoundError(f"There is no job {job_id}.")
            row.stop_asked = True
            if row.state == "pending":
                row.state, row.finished = "cancelled", now()
                if row.kind == "deliver":
                    delivery = session.get(DeliveryRow, int(row.arguments["delivery"]))
                    if delivery is not None:
                        delivery.state = "cancelled"

    def _pool(self, background: bool) -> Executor:
        if self._given is not None:
            return self._given
        with self._lock:
            if background not in self._pools:
                self._pools[background] = process_pool(background)
            return self._pools[background]

    def _hand_over(self, job_id: int) -> None:
        with self.library.db.session() as session:
            row = session.get(JobRow, job_id)
            background = row is not None and row.kind in BACKGROUND
        executor = self._pool(background)
        try:
            future = executor.submit(run_job, str(self.library.root), job_id)
        except BrokenProcessPool:
            self._replace(executor)
            self._hand_over(job_id)
            return
        future.add_done_callback(lambda f: self._after(f, executor, job_id))

    def _after(self, future: "Future[None]", executor: Executor, job_id: int) -> None:
        """A worker that died takes its job with it: put it back in the queue."""
        if future.cancelled() or future.exception() is None:
            return
        log.warning("a worker died during job %s: %r", job_id, future.exception())
        self._replace(executor)
        with self.library.db.session() as session:
            row = session.get(JobRow, job_id)
            if row is None or row.state not in ("pending", "running"):
                return
            self._requeue(row)
            again = row.state == "pending"
        if again:
            self._hand_over(job_id)

    def _replace(self, broken: Executor) -> None:
        with self._lock:
            self._pools = {b: pool for b, pool in self._pools.items() if pool is not broken}

    def warm(self, after_seconds: float = WARM_AFTER_SECONDS) -> None:
        """Start the workers before they are needed, but after the first picture has been served."""

        def begin() -> None:
            for _ in range(WORKERS):
                self._pool(background=False).submit(_ready_to_work)

        timer = threading.Timer(after_seconds, begin)
        timer.daemon = True
        timer.start()

    def close(self) -> None:
        """Stop taking work; what runs is taken up at the next start."""
        with self._lock:
            for pool in self._pools.values():
                pool.shutdown(wait=False, cancel_futures=True)


def _ready_to_work() -> None:
    """Load the compiled kernels, so that the first job does not wait for them."""
    frames = ArrayFrames(np.random.default_rng(1).integers(0, 255, (2, 96, 128, 3), dtype=np.uint8))
    square = np.array([[30.0, 20.0], [90.0, 20.0], [90.0, 70.0], [30.0, 70.0]])
    FOLLOWERS["mesh"].estimate(frames, Region(0, square), FOLLOWERS["mesh"].Options(), wanted=[1])


class InlineExecutor(Executor):
    """Runs each call at once, in the caller's thread."""

    def submit(self, fn: Any, /, *args: Any, **kwargs: Any) -> "Future[Any]":
        future: Future[Any] = Future()
        try:
            future.set_result(fn(*args, **kwargs))
        except BaseException as fault:
            future.set_exception(fault)
        return future


def job_facts(row: JobRow) -> dict[str, Any]:
    """A job for people: how far, how long still."""
    left = None
    if row.state == "running" and row.started and row.done > 0 and row.total > 0:
        spent = (now() - row.started).total_seconds()
        left = round(spent * (row.total - row.done) / row.done, 1)
    return {
        "id": row.id,
        "kind": row.kind,
        "shot": row.shot_id,
        "title": row.title,
        "state": row.state,
        "done": row.done,
        "total": row.total,
        "doing": row.doing,
        "error": row.error,
        "seconds_left": left,
        "result": row.result or {},
    }
