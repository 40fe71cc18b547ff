"""One way from a job's result to the terminal or to JSON: preview, question, run, reading back, exit code."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from vandrel.cli.session import Session
    from vandrel.jobs.common.proposal import Proposal
    from vandrel.jobs.common.report import Report


def present(session: Session, result: Proposal | Report, work_out_again: Callable[[], Proposal] | None) -> int:
    """Take a proposal or a report through everything else, and return the exit code of the program.

    `work_out_again` makes the proposal anew, for when somebody else was quicker to take a name of it; None where
    that cannot be.

    Raises:
        VandrelError: whatever stops it; the caller puts it out.

    """
    from vandrel.jobs.common.report import Report

    if isinstance(result, Report):
        from vandrel.cli.present.reports import put_out

        return put_out(session, result)
    from vandrel.cli.present.proposals import carry_out

    return carry_out(session, result, work_out_again)
