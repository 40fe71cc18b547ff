"""Faults of meaning in what a charter says of services outside, of mail, and of Unix systems."""

from __future__ import annotations

from vandrel.charter.base_checker import WORD, BaseChecker
from vandrel.charter.document import PasswordMail, Posix
from vandrel.charter.name_limits import is_suffix
from vandrel.directory import place as places
from vandrel.errors import VandrelError
from vandrel.fields import ACCOUNT, FIELDS, Shape
from vandrel.text.nearest import did_you_mean
from vandrel.text.schema_errors import is_hole
from vandrel.text.yaml_source import Path

#: By what somebody logs on.
_LOGS_ON = frozenset({"login", "principal", "mail"})


class ServiceChecker(BaseChecker):
    """Checks seats, domains, the mail of passwords and the numbers of Unix systems."""

    def run(self) -> None:
        """Note every fault."""
        self._services()
        self._password_mail(self.document.password_mail)
        if self.document.posix is not None:
            self._posix(self.document.posix)

    def _posix(self, posix: Posix) -> None:
        """Ranges that begin before they end, kinds that there are, patterns that can be filled."""
        ranges: dict[Path, list[int]] = {("uid-numbers",): posix.uid_numbers, ("gid-numbers",): posix.gid_numbers}
        ranges |= {("by-kind", kind): number_range for kind, number_range in posix.by_kind.items()}
        for where, (first, last) in ranges.items():
            if first > last:
                self.source.fault(("posix", *where), f"the range ends at {last}, before it begins", "exchange the two")
        for path, kind in [(("posix", "kinds", index), kind) for index, kind in enumerate(posix.kinds)] + [
            (("posix", "by-kind", kind), kind) for kind in posix.by_kind
        ]:
            if kind not in self.kinds and not is_hole(kind):
                self.source.fault(path, f"there is no kind of account {kind!r}", did_you_mean(kind, self.kinds))
        self.pattern(posix.home, ("posix", "home"))
        if posix.personal_groups:
            self._personal_groups(posix)
        if posix.group:
            self.pattern(posix.group, ("posix", "group"))

    def _personal_groups(self, posix: Posix) -> None:
        """The place of groups of one's own is one, and no other group is the first."""
        path = ("posix", "personal-groups")
        try:
            places.parse(posix.personal_groups)
        except VandrelError as error:
            self.source.fault(path, error.findings[0].what, "write a place, as /Groups")
        if posix.group:
            self.source.fault(
                path, "an account has a group of its own, or another as its first", "leave one of them out"
            )

    def _password_mail(self, mail: PasswordMail) -> None:
        """A message with a password in it does not name the account, unless the charter says that it may."""
        usable, path = self.usable | {"organization", "password"}, ("password-mail", "text")
        subject = self.pattern(mail.subject, ("password-mail", "subject"), usable)
        lines = [self.pattern(line, path, usable) for line in mail.text.splitlines()]
        in_text = {name for line in lines if line is not None for name in line.fields()}
        in_subject = subject.fields() if subject is not None else frozenset()
        if "password" in in_subject:
            what, remedy = "a subject is seen on the way: no password stands in it", "put it in the text"
            self.source.fault(("password-mail", "subject"), what, remedy)
        if "password" not in in_text:
            self.source.fault(path, "the text has no password in it", "add {password}")
        elif not mail.together and (named := sorted((in_text | in_subject) & _LOGS_ON)):
            what = f"{named[0]} and password stand in one message"
            self.source.fault(path, what, "send them by two ways; or say so: together: true")

    def _services(self) -> None:
        """Pools of seats, and domains that are ours."""
        for name, pool in self.document.seats.items():
            path: Path = ("seats", name)
            if not WORD.fullmatch(name):
                self.source.fault(
                    path, f"{name!r} is no name of seats", "lower-case letters, digits and hyphens", key=True
                )
            if bool(pool.group) == bool(pool.field):
                self.source.fault(path, f"the seats {name} need a group or a field, and not both", "group: may-...")
            if pool.field and not is_hole(pool.field):
                self._field_of_seats(pool.field, (*path, "field"))
            for index, field in enumerate(pool.requires):
                if field not in self.fields and not is_hole(field):
                    what = f"there is no field {field!r}"
                    self.source.fault((*path, "requires", index), what, did_you_mean(field, self.fields))
            if pool.ends:
                self.day(pool.ends, (*path, "ends"))
        for domain, proof in self.document.ownership.items():
            if not is_suffix(domain):
                self.source.fault(("ownership", domain), f"{domain!r} is no domain", key=True)
            self.day(proof.proven, ("ownership", domain, "proven"))

    def _field_of_seats(self, name: str, path: Path) -> None:
        """See to it that a field of accounts can hold several texts."""
        own, built_in = self.document.fields.get(name), FIELDS.get(name)
        if own is None and built_in is None:
            self.source.fault(path, f"there is no field {name!r}", did_you_mean(name, self.fields))
            return
        fits = own.shape == "text" if own is not None else built_in is not None and built_in.shape is Shape.TEXT
        field = own or built_in
        if field is not None and not (fits and field.many and ACCOUNT in field.on):
            what = f"{name} is no field of accounts that has several texts as values"
            self.source.fault(path, what, "declare one: fields: {products: {many: true, attribute: ...}}")
