"""The steps that make accounts which were worked out: accounts, passwords, groups, in this order."""

from __future__ import annotations

from collections.abc import Sequence

from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry
from vandrel.fields import ACCOUNT
from vandrel.jobs.common.draft import PLACE, BatchDraft, Draft
from vandrel.jobs.common.new_object import new_object_steps
from vandrel.jobs.common.personal_groups import group_steps
from vandrel.objects.context import Context
from vandrel.secret import Secret
from vandrel.steps.step import Add, Password, Set, Step


def account_steps(
    context: Context, drafts: Sequence[tuple[Draft | BatchDraft, Secret | None]], hand_out: str = ""
) -> list[Step]:
    """The steps that make the accounts: all of them, then their passwords, then one step for each group.

    `hand_out` names the hand-out where generated passwords stand.
    """
    adds: list[Step] = []
    passwords: list[Step] = []
    enabled: list[Step] = []
    members: dict[str, tuple[Entry, list[DN]]] = {}
    for draft, secret in drafts:
        if (dn := draft.dn) is None:
            continue
        fields: dict[str, Sequence[str]] = {
            name: values for name, values in draft.values().items() if name not in (PLACE, "groups", "change")
        }
        is_enabled = fields.pop("enabled", ("yes",)) == ("yes",) and secret is not None
        last = is_enabled and context.dialect.enables_last
        if not is_enabled or last:
            fields["enabled"] = ("no",)
        steps = new_object_steps(context, ACCOUNT, dn, fields)
        adds += [*steps, *group_steps(context, dn, fields)]
        if secret is not None:
            passwords.append(Password(dn, secret, _must_change(draft), hand_out if secret.generated else ""))
        if last and isinstance(steps[0], Add):
            created = Entry(dn, steps[0].attributes)
            enabled.append(Set(dn, tuple(context.dialect.changes(created, "enabled", ("yes",)))))
        for group in draft.groups:
            members.setdefault(group.dn.key, (group, []))[1].append(dn)
    joins = [Set(group.dn, tuple(context.dialect.first_members(group, dns))) for group, dns in members.values()]
    return [*adds, *passwords, *enabled, *joins]


def _must_change(draft: Draft | BatchDraft) -> bool:
    if value := draft.value("change"):
        return value == "yes"
    return bool(draft.rules and draft.rules.rules["change"].value)
