"""What a running job may do: report, and learn that it should stop."""

import time

from sqlalchemy import update

from gentle_veil.core.errors import CancelledError
from gentle_veil.services.library import Library
from gentle_veil.store.tables import JobRow, now

BEAT_SECONDS = 0.25


class JobContext:
    """Writes progress into the job's row at most every BEAT_SECONDS, and reads there whether to stop."""

    def __init__(self, library: Library, job_id: int) -> None:
        self.library = library
        self.job_id = job_id
        self._last = 0.0

    def report(self, done: int, total: int, doing: str = "") -> None:
        """See `core.contracts.report.Report`; raises CancelledError when the job was asked to stop."""
        moment = time.monotonic()
        if moment - self._last < BEAT_SECONDS:
            return
        self._last = moment
        with self.library.db.session() as session:
            session.execute(
                update(JobRow)
                .where(JobRow.id == self.job_id)
                .values(done=done, total=total, doing=doing[:200], beat=now())
            )
            row = session.get(JobRow, self.job_id)
            stop = row is None or row.stop_asked
        if stop:
            raise CancelledError
