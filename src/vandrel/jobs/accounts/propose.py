"""From accounts that were worked out to the proposal that makes them. What create and copy share."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import partial

from msgspec import Struct

from vandrel.charter.passwords import check
from vandrel.directory.entry import Entry
from vandrel.fields import ACCOUNT
from vandrel.jobs.accounts.create import Creator
from vandrel.jobs.accounts.full_name import name_parts
from vandrel.jobs.common.account_steps import account_steps
from vandrel.jobs.common.draft import Draft
from vandrel.jobs.common.new_object import creation
from vandrel.jobs.common.proposal import Credential, Passwords, Proposal, Work, unique, work_out_proposal
from vandrel.jobs.common.report import Table
from vandrel.objects.context import Context
from vandrel.objects.namesakes import Namesakes


class AccountRequest(Struct, frozen=True):
    """A new account.

    Attributes:
        kind: a kind of account in the charter.
        name: the full name, as typed; empty where its parts are among the fields.
        fields: the values of fields, as typed, ``place``, ``groups`` and ``password`` among them.

    """

    kind: str
    name: str = ""
    fields: Mapping[str, Sequence[str]] = {}


def propose_accounts(
    context: Context, drafts: Sequence[Draft], source: str, title: str, command: str, tables: Sequence[Table] = ()
) -> Proposal:
    """The proposal that makes these accounts.

    Args:
        context: the charter and the directory.
        drafts: the accounts, worked out.
        source: where passwords come from, if that was typed; else the rules of each account say.
        title: the title of the job in the journal.
        command: the verb, for programs.
        tables: more that is shown before the question.

    """

    def work(passwords: Passwords) -> Work:
        pairs = [(draft, passwords.secrets.get(draft.dn) if draft.dn is not None else None) for draft in drafts]
        steps = account_steps(context, pairs, passwords.hand_out)
        groups = {group.dn.key for draft in drafts for group in draft.groups}
        return Work(steps, read=groups)

    namesakes = Namesakes(context)
    names = drafts[0].value("full") if len(drafts) == 1 else f"{len(drafts)} accounts"
    return Proposal(
        command,
        title,
        f"Create {names}?",
        work,
        changes=[creation(context, draft, ACCOUNT, namesakes=namesakes) for draft in drafts if draft.dn is not None],
        findings=unique(finding for draft in drafts for finding in draft.findings),
        credentials=[_credential(context, draft, source) for draft in drafts if draft.dn is not None],
        tables=tables,
        missing=drafts[0].missing if len(drafts) == 1 else (),
    )


def _credential(context: Context, draft: Draft, source: str) -> Credential:
    assert draft.dn is not None and draft.rules is not None
    words = [context.charter.document.organization, *draft.place]
    find = partial(check, rules=draft.rules, login=draft.value("login"), full=draft.value("full"), words=words)
    return Credential(draft.dn, draft.rules, source or str(draft.rules.rules["first"].value), draft.value, find)


def create_account(context: Context, request: AccountRequest) -> Proposal:
    """Propose a new account; ``missing`` names what is required and was not given.

    Raises:
        VandrelError: ``unknown-kind``, ``unknown-field``.

    """
    fields = {name: (value,) for name, value in name_parts(context, request.name).items()} | dict(request.fields)

    def worked_out(here: Context) -> Proposal:
        here.dialect.groups_filter(Entry(here.charter.base, {}))  # asks once which classes of groups there are
        draft = Creator(here, here.charter.today()).draft(request.kind, fields)
        source = next(iter(request.fields.get("password", ())), "")
        return propose_accounts(here, [draft], source, f"create {request.kind} {draft.value('login')}", "create")

    return work_out_proposal(context, worked_out)
