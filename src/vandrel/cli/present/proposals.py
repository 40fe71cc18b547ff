"""A proposal from its preview to its exit code: refusal, question, passwords, run, reading back, JSON."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from contextlib import suppress
from functools import partial
from typing import TYPE_CHECKING

from vandrel.cli.present.passwords import HandOut, obtain
from vandrel.cli.present.previews import by_action, show_proposal, show_row_findings
from vandrel.cli.present.progress import progress
from vandrel.directory.spilled import Spill
from vandrel.errors import DONE, Code, Finding, Refused, are_fatal
from vandrel.jobs.common.proposal import Action, ObjectChange, Passwords, Proposal, RowOutcome, Work
from vandrel.jobs.common.report import count
from vandrel.steps.plan import Plan, RunResult

if TYPE_CHECKING:
    from vandrel.cli.present.json_output import Outcome
    from vandrel.cli.present.rows import ResultsFile
    from vandrel.cli.session import Session
    from vandrel.steps.step import Step

#: Refusals that are told; beyond, the journal must do. Objects that are read back.
_REFUSALS_SHOWN, _READ_BACK = 20, 5
#: How often a proposal is worked out again because a name of it was taken meanwhile.
_MOST_OVERTAKEN = 5


def carry_out(session: Session, proposal: Proposal, work_out_again: Callable[[], Proposal] | None) -> int:
    """Take a proposal through everything, and return the exit code.

    Where somebody else took a name of it between the preview and the write, and rules give another, it is worked out
    again, shown and asked about again.

    Raises:
        Refused: a finding stops it; nothing was written.
        VandrelError: ``declined``, or whatever stopped it.

    """
    tries_left = _MOST_OVERTAKEN
    while work_out_again is not None and tries_left:
        with suppress(_OvertakenError):
            return _Run(session, proposal).carry_out()
        session.terminal.note("A name was taken meanwhile, and nothing was written. Worked out again:")
        session.runner.job = 0
        proposal = work_out_again()
        tries_left -= 1
    return _Run(session, proposal, is_last=True).carry_out()


class _OvertakenError(Exception):
    """Somebody else took a name between the preview and the write."""


class _Run:
    """One proposal on its way."""

    def __init__(self, session: Session, proposal: Proposal, *, is_last: bool = False) -> None:
        self._session = session
        self._is_last = is_last
        self._was_overtaken = False
        self._out = session.terminal
        self._proposal = proposal
        self._steps: Sequence[Step] = ()
        self._outcomes: Sequence[RowOutcome] = ()
        self._findings: list[Finding] = list(proposal.findings)

    def carry_out(self) -> int:
        """Take the proposal through everything."""
        proposal, session = self._proposal, self._session
        of_rows = [finding for finding in proposal.findings if finding.where.row or finding.code.is_of_rows]
        show_row_findings(self._out, of_rows)
        show_proposal(session, proposal)
        if proposal.is_fatal:
            return self._refuse(proposal.findings)
        if proposal.dry_batches is not None and session.args.dry_run:
            return self._check_in_turn()
        hand_out = HandOut(session, getattr(session.args, "hand_out", None), getattr(session.args, "recipient", ""))
        work = proposal.work(self._passwords(hand_out))
        self._steps = work.steps
        self._findings += work.findings
        self._out.findings(work.findings)
        plan = Plan(
            proposal.title, work.steps, () if proposal.is_many else proposal.findings,
            is_atomic=proposal.is_atomic, read=work.read, barriers=work.barriers,
            most_refused=proposal.most_refused, undoes=proposal.undoes, for_good=proposal.for_good,
            leavers=proposal.leavers, results=str(results.path) if (results := self._results_file(work)) else "",
        )  # fmt: skip
        if results is not None:
            results.begin(self._rows_told(None))
        try:
            result = hand_out.around(lambda: self._run(plan, partial(self._take_rows, results)))
        finally:
            if results is not None and not session.runner.job:
                results.withdraw()
        if self._was_overtaken:
            raise _OvertakenError
        if result is not None:
            self._tell_rows(result)
        if result is None and self._out.as_json and are_fatal(self._findings):
            return self._refuse(self._findings)
        if self._proposal.keep is not None and not session.args.dry_run and not are_fatal(self._findings):
            self._proposal.keep(result)
        if result is not None:
            self._put_right(result)
            hand_out.deliver()
            self._end(result)
        return self._finish(result)

    # --- before

    def _passwords(self, hand_out: HandOut) -> Passwords:
        secrets = {}
        for credential in self._proposal.credentials:
            secret = secrets[credential.dn] = obtain(self._session, credential)
            if secret is not None and secret.generated and credential.secret is None:
                hand_out.add(credential.dn, credential.value, secret)
        return Passwords(secrets, hand_out.name)

    def _check_in_turn(self) -> int:
        """Check the steps of a dry run of very many objects, some at a time, and let them go."""
        assert self._proposal.dry_batches is not None
        batches, coming = self._proposal.dry_batches()
        findings: dict[Finding, None] = {}
        for batch in self._session.runner.check_in_turn(batches, coming):
            findings |= dict.fromkeys(batch)
        self._findings += findings
        if are_fatal(findings):
            return self._refuse(list(findings))
        self._out.findings(findings)
        self._out.note("Dry run: nothing was changed.")
        self._json("dry run", DONE, None)
        return DONE

    def _refuse(self, findings: Sequence[Finding]) -> int:
        """Put a refusal out: as JSON with all that was worked out, else as an error.

        Raises:
            Refused: for people.

        """
        of_rows = [finding for finding in findings if finding.is_fatal and finding.where.row]
        of_file = [finding for finding in findings if finding.is_fatal and finding.code.is_of_rows]
        fatal = [finding for finding in findings if finding.is_fatal]
        if self._proposal.is_file and (of_rows or of_file):
            rows = {finding.where.row for finding in fatal}
            what = f"{count(len(fatal), 'finding')} in {count(len(rows), 'row')}: nothing was written"
            fatal = [Finding(Code.INTAKE, what, remedy="mend the file; or make the sound rows alone: --sound-only")]
        elif self._proposal.is_many:
            fatal = fatal[:1]
        error = Refused(fatal)
        if not self._out.as_json:
            raise error
        self._json("refused", error.exit_code, None)
        return error.exit_code

    # --- the run

    def _run(self, plan: Plan, before_end: Callable[[RunResult], None]) -> RunResult | None:
        """Check a plan whose preview is on the screen, ask, run it; None where it was not run."""
        session, out = self._session, self._out
        findings = session.runner.check(plan)
        self._findings = [*dict.fromkeys([*self._findings, *findings])]
        if are_fatal(findings):
            if out.as_json:
                return None
            out.findings(finding for finding in findings if not finding.is_fatal)
            raise Refused(findings)
        out.findings(findings)
        if session.args.dry_run or not plan.steps:
            out.note("Dry run: nothing was changed." if plan.steps else self._proposal.nothing)
            return None
        session.warn_of_broken_jobs()
        if self._proposal.typed:
            answer, question = self._proposal.typed, f"{self._proposal.question} Then type {self._proposal.typed!r}:"
            out.confirm_typed(question, answer, option=getattr(session.args, "confirm", ""))
        else:
            out.confirm(self._proposal.question, yes=session.args.yes)
        # While somebody thought about the question, somebody else may have been at work: then it is checked again.
        with progress(session, len(plan.steps)) as update:
            try:
                result = session.runner.run(
                    plan, session.command, update, checked=session.args.yes, before_end=before_end
                )
            except Refused as error:
                if self._is_overtaken([finding.code for finding in error.findings]):
                    raise _OvertakenError from None
                raise
        self._was_overtaken = not result.made and self._is_overtaken([error.code for _, error in result.refused])
        if not self._was_overtaken:
            tell_result(session, result)
        return result

    def _is_overtaken(self, codes: Sequence[Code]) -> bool:
        """Whether nothing but taken names stood in the way, and another try may find others without asking."""
        proposal = self._proposal
        can_repeat = proposal.is_atomic and not (proposal.is_many or proposal.undoes or self._is_last)
        is_interactive = any(credential.source not in ("generate", "none") for credential in proposal.credentials)
        return can_repeat and not is_interactive and Code.TAKEN in codes and {*codes} <= {Code.TAKEN, Code.DONE_IN_PART}

    def _put_right(self, result: RunResult) -> None:
        if self._proposal.when_refused is None or not result.refused:
            return
        title, steps = self._proposal.when_refused(result)
        if steps:
            tell_result(self._session, self._session.runner.run(Plan(title, steps, is_atomic=False),
                                                                 self._session.command))  # fmt: skip

    # --- rows

    def _results_file(self, work: Work) -> ResultsFile | None:
        from vandrel.cli.present.rows import ResultsFile

        name = getattr(self._session.args, "results", None)
        return ResultsFile(name) if name and work.steps and not self._session.args.dry_run else None

    def _rows_told(self, result: RunResult | None) -> Sequence[RowOutcome]:
        if self._proposal.outcomes is None:
            return ()
        return Spill().list(RowOutcome, self._proposal.outcomes(result, self._steps))  # there may be very many

    def _take_rows(self, results: ResultsFile | None, result: RunResult) -> None:
        """Work out what became of each row, and write it where that was asked for."""
        self._outcomes = self._rows_told(result)
        if results is not None:
            results.end(self._outcomes, result.job)

    def _tell_rows(self, result: RunResult) -> None:
        if self._proposal.outcomes is None:
            return
        if name := getattr(self._session.args, "results", None):
            self._out.note(f"Results: {name}")
        figures = Counter(outcome.result for outcome in self._outcomes)
        words = ["created", "changed", *(word for word in ("in part", "refused", "left for later") if figures[word])]
        summary = ", ".join(f"{figures[word]} {word}" for word in words)
        rate = f", {result.tried / result.seconds:,.0f} steps a second" if result.seconds > 0.5 else ""
        self._out.note(f"{summary}; {result.seconds:.1f} s{rate}.")
        if figures["in part"]:
            where = getattr(self._session.args, "results", None) or f"vandrel journal {result.job}"
            self._out.note(f"In part: a group or a password is missing; {where} tells which.")
        if result.stopped:
            ways = f"vandrel resume {result.job} goes on, vandrel undo {result.job} takes it back"
            self._out.note(f"Stopped after {count(len(result.refused), 'refusal')}: {ways}.")

    # --- afterwards

    def _end(self, result: RunResult) -> None:
        proposal = self._proposal
        if proposal.ends_job and not result.is_in_part:
            self._session.runner.abandon(proposal.ends_job)
        if result.made and not proposal.is_many:
            self._read_back()
        if result.made and proposal.afterwards:
            self._out.note(proposal.afterwards.format(job=result.job))

    def _read_back(self) -> None:
        """Say what the directory has now."""
        if self._out.as_json or self._out.quiet:
            return
        from vandrel.cli.present.reports import show_object
        from vandrel.jobs.inspect.read_back import read_back

        of_action = by_action(self._proposal.changes)
        new = (of_action[Action.CREATE], of_action[Action.RESTORE])
        created = [change for some in new for change in some[:_LISTED]][:_LISTED]
        changed = of_action[Action.CHANGE] if len(of_action[Action.CHANGE]) <= _READ_BACK else ()
        objects: list[ObjectChange] = [*created, *changed]
        for number, detail in enumerate(read_back(self._session.context, objects)):
            if number and not detail.is_brief:
                self._out.line()
            if detail.sentence and not detail.title:
                self._out.line(detail.sentence)
                continue
            self._out.line()
            show_object(self._out, detail)
        if rest := sum(map(len, new)) - len(created):
            self._out.line(f"and {rest} more that are new")

    def _finish(self, result: RunResult | None) -> int:
        """Put out the JSON, and work out the exit code."""
        code = exit_code(result)
        if result is not None and self._proposal.left_out:
            code = Code.DONE_IN_PART.exit_code
        outcome: Outcome = "done" if code == DONE else "done in part"
        if result is None:
            outcome = "dry run" if self._session.args.dry_run else "unchanged"
        self._json(outcome, code, result)
        return code

    def _json(self, outcome: Outcome, code: int, result: RunResult | None) -> None:
        if not self._out.as_json:
            return
        from vandrel.cli.present import json_output as data

        proposal = self._proposal
        changes = [] if proposal.is_many else data.changes_of(proposal.changes)
        data_of_result = data.ResultData(
            proposal.command,
            outcome,
            code,
            job=result.job if result is not None else None,
            undoes=proposal.undoes or None,
            changes=changes,
            steps=[] if proposal.is_many else data.steps_of(self._steps),
            tables={table.name: data.of_table(table) for table in proposal.tables},
            rows=data.rows_of(self._outcomes or proposal.rows),
            refused=data.refusals_of(result),
            columns=list(RowOutcome.__struct_fields__) if proposal.rows else [],
            findings=data.findings_of(dict.fromkeys(self._findings)),
        )
        self._out.write(data.encode(data_of_result))


#: New objects of which it is said what there is now: of an account in a sentence.
_LISTED = 20


def tell_result(session: Session, result: RunResult) -> None:
    """Say what became of a job: its refusals, how many steps were made, and its number."""
    out = session.terminal
    # Of a change that was not made at all, its cause.
    refusals = [(dn, error) for dn, error in result.refused if error.code is not Code.DONE_IN_PART or result.made]
    from vandrel.errors import Location

    out.findings(
        Finding(error.code, error.findings[0].what, Location(dn=dn), error.findings[0].remedy)
        for dn, error in refusals[:_REFUSALS_SHOWN]
    )
    if len(refusals) > _REFUSALS_SHOWN:
        out.line(f"and {len(refusals) - _REFUSALS_SHOWN} more refusals: vandrel journal {result.job} tells all")
    out.findings(result.twice)
    if result.changed_since:
        names = ", ".join(str(dn) for dn in result.changed_since[:_REFUSALS_SHOWN])
        out.note(f"Made before it broke off, and changed since, so left as it is: {names}")
    if result.made == result.planned:
        out.note(f"Done: {count(result.made, 'step')}, job {result.job} in the journal.")
    else:
        out.line(f"{result.made} of {count(result.planned, 'step')} made, job {result.job} in the journal.")


def exit_code(result: RunResult | None) -> int:
    """Done; done in part; or, where nothing was made at all, the code of the refusal."""
    if result is None or not result.is_in_part:
        return DONE
    causes = [error.exit_code for _, error in result.refused if error.code is not Code.DONE_IN_PART]
    return causes[0] if causes and not result.made else Code.DONE_IN_PART.exit_code
