"""Jobs: progress, cancel, faults told, and going on after a worker or the program was killed."""

import os
import signal
import subprocess
import sys
import time
from concurrent.futures import Executor, Future
from pathlib import Path

import pytest
from conftest import MARK, Studio, ring, spot_recipe

from gentle_veil.core.errors import NotFoundError
from gentle_veil.domain.recipe import Recipe
from gentle_veil.jobs import handlers
from gentle_veil.jobs.context import JobContext
from gentle_veil.jobs.runner import MAX_ATTEMPTS, JobRunner, job_facts, run_job
from gentle_veil.services import recipes
from gentle_veil.services.following import known_track
from gentle_veil.store.tables import DeliveryRow, JobRow


class NeverExecutor(Executor):
    """Takes calls and never runs them: a program that was stopped before its work began."""

    def submit(self, fn, /, *args, **kwargs):
        return Future()


def row_of(studio: Studio, job_id: int) -> JobRow:
    with studio.library.db.session() as session:
        row = session.get(JobRow, job_id)
        assert row is not None
        return row


def test_follow_then_ready_then_prove__the_story_in_jobs(studio: Studio) -> None:
    studio.shot().edit(spot_recipe())
    assert studio.job("analyse")["state"] == "done"
    followed = studio.job("follow", drape="skin", again=False)
    assert followed["state"] == "done"
    assert followed["result"]["frames"] == 16
    assert studio.job("ready")["result"]["spot"]["why"]
    assert studio.job("prove")["result"] == {"verdict": "pass"}


def test_submit__the_same_work_twice__is_one_job(studio: Studio) -> None:
    studio.shot()
    runner = JobRunner(studio.library, NeverExecutor())
    assert runner.submit("analyse", studio.id, "t", {}) == runner.submit("analyse", studio.id, "t", {})
    with pytest.raises(NotFoundError):
        runner.submit("analyse", 999, "t", {})


def test_composing__only_the_newest_state_of_a_shot_is_worth_it(studio: Studio) -> None:
    studio.shot()
    runner = JobRunner(studio.library, NeverExecutor())
    older = runner.submit("ready", studio.id, "t", {"revision": 1})
    measured = runner.submit("prove", studio.id, "t", {"revision": 1})
    newer = runner.submit("ready", studio.id, "t", {"revision": 2})
    assert [row_of(studio, j).state for j in (older, measured, newer)] == ["cancelled", "pending", "pending"]


def test_following__a_drape_as_it_was_before_a_change_is_stopped_and_nothing_else(studio: Studio) -> None:
    studio.shot()

    def revision(**changes: object) -> int:
        document = spot_recipe()
        document["drapes"][0] |= changes
        document["drapes"].append({**document["drapes"][0], "name": "other", "outline": {"0": ring(MARK, 50)}})
        return recipes.edit(studio.library, studio.id, document, "edit").id

    runner = JobRunner(studio.library, NeverExecutor())

    def follow(at: int, drape: str = "skin", last: int = 15) -> int:
        return runner.submit("follow", studio.id, "t", {"revision": at, "drape": drape, "first": 0, "last": last})

    first = revision()
    jobs = [follow(first), follow(first, "other")]
    tacked = revision(tacks=[{"frame": 5, "at": [1, 1], "to": [2, 2]}])
    jobs.append(follow(tacked, last=9))
    assert [row_of(studio, j).state for j in jobs] == ["pending"] * 3
    jobs.append(follow(revision(outline={"0": ring(MARK, 60)})))
    assert [row_of(studio, j).state for j in jobs] == ["cancelled", "pending", "cancelled", "pending"]


def test_fault__is_told_in_the_job_not_thrown(studio: Studio) -> None:
    studio.shot()
    facts = studio.job("follow", drape="nothing of that name")
    assert facts["state"] == "failed"
    assert "no drape" in facts["error"]


def test_unexpected_fault__names_itself(studio: Studio, monkeypatch: pytest.MonkeyPatch) -> None:
    def burst(*_: object) -> dict:
        raise ZeroDivisionError("oops")

    studio.shot()
    monkeypatch.setitem(handlers.HANDLERS, "analyse", burst)
    assert "ZeroDivisionError" in studio.job("analyse")["error"]


def test_cancel__pending_at_once_and_running_at_its_next_report(
    studio: Studio, monkeypatch: pytest.MonkeyPatch
) -> None:
    studio.shot()
    runner = JobRunner(studio.library, NeverExecutor())
    job_id = runner.submit("analyse", studio.id, "t", {})
    runner.cancel(job_id)
    assert row_of(studio, job_id).state == "cancelled"

    def endless(context: JobContext, *_: object) -> dict:
        for i in range(100):
            context._last = 0
            context.report(i, 100, "turning")
            if i == 3:
                studio.runner.cancel(context.job_id)
        raise AssertionError("was not stopped")

    monkeypatch.setitem(handlers.HANDLERS, "analyse", endless)
    facts = studio.job("analyse")
    assert (facts["state"], facts["done"]) == ("cancelled", 4)


def test_start__takes_up_what_was_left_and_gives_up_after_three_times(studio: Studio) -> None:
    studio.shot()
    stopped = JobRunner(studio.library, NeverExecutor())
    job_id = stopped.submit("analyse", studio.id, "t", {})
    with studio.library.db.session() as session:
        row = session.get(JobRow, job_id)
        assert row is not None
        row.state, row.attempts = "running", 1
    studio.runner.start()
    assert row_of(studio, job_id).state == "done"
    worn = stopped.submit("prove", studio.id, "t", {})
    with studio.library.db.session() as session:
        row = session.get(JobRow, worn)
        assert row is not None
        row.attempts = MAX_ATTEMPTS
    studio.runner.start()
    assert row_of(studio, worn).state == "failed"
    assert "3 times" in row_of(studio, worn).error


def test_killed_worker__the_job_is_run_again_and_ends_well(studio: Studio) -> None:
    """A real process pool; the worker is killed in the middle of following."""
    studio.shot().edit(spot_recipe())
    runner = JobRunner(studio.library)
    try:
        arguments = {"revision": recipes.current(studio.library, studio.id).id, "first": 0, "last": 15, "drape": "skin"}
        job_id = runner.submit("follow", studio.id, "Following", arguments)
        deadline = time.monotonic() + 90
        while row_of(studio, job_id).state == "pending" and time.monotonic() < deadline:
            time.sleep(0.02)
        for pid in list(runner._pools[False]._processes):  # type: ignore[attr-defined]
            os.kill(pid, signal.SIGKILL)
        while row_of(studio, job_id).state in ("pending", "running") and time.monotonic() < deadline:
            time.sleep(0.05)
        row = row_of(studio, job_id)
        assert row.state == "done"
        assert row.attempts == 2
        drape = recipes.current(studio.library, studio.id).recipe.drapes[0]
        followed = known_track(studio.library.workspace(studio.id), Recipe(), drape)
        assert followed is not None
        assert len(followed.track.frames) == 16
    finally:
        runner.close()


def test_deliver__job_marks_its_delivery_and_a_cancel_removes_the_rest(studio: Studio) -> None:
    studio.shot().edit(spot_recipe()).job("follow", drape="skin")
    revision = recipes.current(studio.library, studio.id).id

    def delivery(name: str) -> int:
        with studio.library.db.session() as session:
            settings = {"form": "png", "first": 0, "last": 5}
            row = DeliveryRow(shot_id=studio.id, revision_id=revision, settings=settings, path=f"deliveries/{name}")
            session.add(row)
            session.flush()
            return row.id

    first = delivery("one")
    assert studio.job("deliver", delivery=first)["result"]["files"] == 6
    second = delivery("two")
    job_id = JobRunner(studio.library, NeverExecutor()).submit("deliver", studio.id, "t", {"delivery": second})
    studio.runner.cancel(job_id)
    run_job(str(studio.root), job_id)
    with studio.library.db.session() as session:
        states = {row.path: row.state for row in session.query(DeliveryRow)}
    assert states == {"deliveries/one": "done", "deliveries/two": "cancelled"}
    assert [p.name for p in (Path(studio.root) / "deliveries").iterdir()] == ["one"]


def test_job_facts__time_left_from_the_pace_so_far(studio: Studio) -> None:
    studio.shot()
    job_id = JobRunner(studio.library, NeverExecutor()).submit("analyse", studio.id, "t", {})
    row = row_of(studio, job_id)
    assert job_facts(row)["seconds_left"] is None
    row.state, row.done, row.total = "running", 5, 20
    row.started = row.created.replace(year=row.created.year - 1)
    assert job_facts(row)["seconds_left"] > 0


def test_killed_server__its_workers_end_with_it(tmp_path: Path) -> None:
    """A worker that outlived its server would do the job beside the next server's."""
    script = (
        "import os, time\n"
        "from gentle_veil.jobs.runner import process_pool\n"
        "if __name__ == '__main__':\n"
        "    pool = process_pool(False)\n"
        "    print(pool.submit(os.getpid).result(), flush=True)\n"
        "    time.sleep(60)\n"
    )
    path = tmp_path / "server.py"
    path.write_text(script)
    with subprocess.Popen([sys.executable, str(path)], stdout=subprocess.PIPE, text=True) as server:
        assert server.stdout is not None
        worker = int(server.stdout.readline())
        server.kill()
    deadline = time.monotonic() + 15
    while Path(f"/proc/{worker}").exists() and time.monotonic() < deadline:
        time.sleep(0.1)
    assert not Path(f"/proc/{worker}").exists()
