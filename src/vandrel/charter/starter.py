"""The charter to start from, for an organization and its domain."""

from __future__ import annotations

from importlib import resources

from vandrel.charter.name_limits import is_suffix
from vandrel.errors import Code, Location, VandrelError

_ORGANIZATION, _DOMAIN = "Our Organization", "example.com"


def starter_text(organization: str = "", domain: str = "") -> str:
    """The text of a charter to start from; the base and the first suffix follow from the domain.

    Raises:
        VandrelError: ``bad-value`` for a domain that is none.

    """
    domain = domain or _DOMAIN
    if not is_suffix(domain):
        remedy = "write one as skelling.example"
        raise VandrelError(Code.BAD_VALUE, f"{domain!r} is no domain", where=Location(option="--domain"), remedy=remedy)
    text = resources.files(__package__).joinpath("starter.yaml").read_text("utf-8")
    base = ",".join(f"dc={label}" for label in domain.split("."))
    quoted = (organization or _ORGANIZATION).replace("\\", "\\\\").replace('"', '\\"')
    return text.replace("$organization", f'"{quoted}"').replace("$base", base).replace("$domain", domain)
