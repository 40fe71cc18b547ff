"""Figures counted and drawn, and the page of an audit as a browser reads it."""

from __future__ import annotations

import re
import shutil
import subprocess
from html.parser import HTMLParser
from pathlib import Path

import pytest

from vandrel.cli.present.audit_page import MOST_ROWS, render
from vandrel.directory import dn as names
from vandrel.directory.operations import Change, ModifyEntry
from vandrel.errors import Code
from vandrel.jobs.audit.audit import AuditRequest, audit
from vandrel.jobs.audit.page import AuditPage, PageRow, PageRule, page_of
from vandrel.jobs.audit.statistics import STATISTICS, Statistic, statistic
from vandrel.jobs.audit.survey import Survey

from .conftest import Folder, not_installed
from .test_attic import done
from .test_upkeep import hire

#: What a hostile directory would like to be markup.
HOSTILE = "<script>alert(1)</script><img src=x onerror=alert(2)>"


def numbers(bench, name: str) -> dict[str, tuple[int, ...]]:
    return dict(statistic(Survey(bench.context), name, ()).rows)


def test_what_is_counted_is_what_is_there(bench):
    hire(bench, "Anna", "Lund", "2041")
    hire(bench, "Tor", "Brekke", "2042", phone="+4755550100")
    hire(bench, "Eva", "Moe", "2043")
    kinds = statistic(Survey(bench.context), "kinds", ())
    assert [sum(row) for _, row in kinds.rows if any(row)] == [3]
    assert numbers(bench, "fields")["phone"] == (1, 2)
    assert numbers(bench, "fields")["login"] == (3, 0)
    assert numbers(bench, "logons")["never, or not shown here"] == (3,)
    assert list(numbers(bench, "growth").values())[-2:] == [(0,), (3,)]
    sizes = numbers(bench, "groups")
    groups = len(Survey(bench.context).groups)
    assert (sizes["2 to 5"], sizes["none"]) == ((2,), (groups - 2,))  # everybody's, and that of the department
    assert numbers(bench, "nesting") == {"0": (groups,)}
    teams = names.parse("ou=Teams,ou=Groups,dc=marrowick,dc=example")
    nest = ModifyEntry(
        teams.child("cn", "team-office"), (Change("member", added=(str(teams.child("cn", "team-it")),)),)
    )
    bench.context.directory.execute([nest], atomic=True)
    assert numbers(bench, "nesting") == {"0": (groups - 1,), "1": (1,)}


def test_accounts_that_the_audit_finds_fault_with_are_told_apart(demo):
    rows = {row["unit"]: row for row in demo.run("chart", "conformity", "--json").json["rows"]}
    before = rows["/Shore/IT"]["something found"]
    login = demo.run("find", "--under", "/Shore/IT", "--columns", "login", "--as", "csv").out.split()[1]
    done(demo, "edit", login, "manager=")
    rows = {row["unit"]: row for row in demo.run("chart", "conformity", "--json").json["rows"]}
    assert int(rows["/Shore/IT"]["something found"]) == int(before) + 1


@pytest.mark.parametrize("name", list(STATISTICS))
def test_every_chart_is_listed_and_drawn(demo, name):
    assert name in demo.run("chart").out
    forms = {"svg": b"<?xml"} | ({"png": b"\x89PNG", "pdf": b"%PDF"} if name == "groups" else {})
    for suffix, begin in forms.items():
        path = demo.path / f"{name}.{suffix}"
        told = demo.run("chart", name, "--to", path.name)
        assert (told.code, path.read_bytes()[:5].startswith(begin[:4])) == (0, True), told.err
        assert path.stat().st_mode & 0o077 == 0


def test_wrong_words_are_told(demo):
    assert "did you mean fields" in demo.run("chart", "field").err
    assert demo.run("chart", "--to", "x.svg").code == Code.USAGE.exit_code
    assert demo.run("chart", "groups", "--to", "x.bmpp").code == Code.USAGE.exit_code


def test_units_that_are_many_are_one_row_together():
    from vandrel.jobs.audit.statistics import _largest

    rows = {f"/Unit {number:03d}": (number, 1) for number in range(300)}
    shown = dict(_largest(rows))
    assert len(shown) == 31
    assert shown["all others, 270 units"] == (sum(range(270)), 270)
    assert shown["/Unit 299"] == (299, 1)


def test_a_hierarchy_of_three_hundred_units_has_no_two_names_in_one_place(tmp_path):
    from vandrel.cli.figures import hierarchy_figure
    from vandrel.jobs.common.report import Branch

    tops = [Branch(f"Port {n}", below=[Branch(f"Department {m} of port {n}") for m in range(24)]) for n in range(12)]
    figure = hierarchy_figure(Branch("Marrowick", below=tops))
    figure.canvas.draw()
    (axes,) = figure.axes
    boxes = [text.get_window_extent() for text in axes.texts]
    assert len(boxes) == 1 + 12 * 25
    assert not any(a.overlaps(b) for number, a in enumerate(boxes) for b in boxes[number + 1 :])
    assert all(box.x1 <= figure.bbox.x1 for box in boxes)


def test_labels_of_bars_stand_apart(tmp_path):
    from vandrel.cli.figures import statistic_figure

    rows = tuple((f"/A very long way down/to unit number {n}", (n, 30 - n)) for n in range(31))
    figure = statistic_figure(Statistic("kinds", "Accounts", "unit", ("crew", "staff"), rows))
    figure.canvas.draw()
    (axes,) = figure.axes
    boxes = [label.get_window_extent() for label in axes.get_yticklabels()]
    assert not any(a.overlaps(b) for number, a in enumerate(boxes) for b in boxes[number + 1 :])


def test_a_hierarchy_is_drawn_before_anything_exists(demo, tmp_path):
    fresh = Folder(tmp_path / "fresh", demo.env)
    fresh.path.mkdir()
    shutil.copy(demo.path / "charter.yaml", fresh.path)
    assert fresh.run("hierarchy", "--to", "units.svg").code == 0
    assert "Boatyard" in demo.run("hierarchy", "--to", "units.svg").out
    assert (fresh.path / "units.svg").read_bytes().startswith(b"<?xml")
    assert not (fresh.path / "directory.db").exists()


# --- the page


class Outline(HTMLParser):
    """The headings, links, and what would be loaded from elsewhere."""

    def __init__(self) -> None:
        super().__init__()
        self.headings: list[int] = []
        self.loads: list[str] = []
        self.ids: set[str] = set()
        self.targets: set[str] = set()

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if re.fullmatch("h[1-6]", tag):
            self.headings.append(int(tag[1]))
        for name, value in attrs:
            if name in ("src", "data") or (name == "href" and tag in ("link", "image")):
                self.loads.append(value or "")
            if name == "id":
                self.ids.add(value or "")
            if name == "href" and tag == "a":
                self.targets.add((value or "").lstrip("#"))


def read(path: Path) -> Outline:
    outline = Outline()
    outline.feed(path.read_text())
    return outline


def test_the_page_needs_nothing_from_elsewhere_and_is_in_order(demo):
    told = demo.run("audit", "--page", "audit.html")
    assert "The page is in audit.html." in told.out + told.err
    outline = read(demo.path / "audit.html")
    assert outline.loads == []
    assert outline.targets <= outline.ids
    assert outline.headings[0] == 1 and outline.headings.count(1) == 1
    steps = [after - before for before, after in zip(outline.headings, outline.headings[1:], strict=False)]
    assert max(steps) <= 1
    assert (demo.path / "audit.html").stat().st_mode & 0o077 == 0
    again = demo.run("audit", "--page", "audit.html")
    assert again.code == Code.TAKEN.exit_code
    done(demo, "edit", "alund", "manager=")
    demo.run("audit", "--page", "second.html")
    second = (demo.path / "second.html").read_text()
    told = re.search(r"(\d+) new since the last audit, 0 gone", second)
    assert told is not None and int(told[1]) == second.count("(new)") > 0


def luminance(color: str) -> float:
    """Relative luminance: WCAG 2.2, "relative luminance"."""
    parts = [int(color[at : at + 2], 16) / 255 for at in (1, 3, 5)]
    red, green, blue = (c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in parts)
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def test_letters_stand_out_from_the_paper():
    template = Path("src/vandrel/cli/present/audit_report.html.j2").read_text()
    letters = re.findall(r"--(?:ink|soft): (#[0-9a-f]{6})", template) + re.findall(
        r"a { color: (#[0-9a-f]{6})", template
    )
    (band,) = re.findall(r"--band: (#[0-9a-f]{6})", template)
    assert len(letters) == 3
    for color in letters:
        for paper in ("#ffffff", band):
            contrast = (luminance(paper) + 0.05) / (luminance(color) + 0.05)
            assert contrast >= 4.5, (color, paper, contrast)


def test_what_the_directory_holds_is_never_markup(bench):
    entry = hire(bench, "Anna", "Lund", "2041")
    change = Change("description", added=(HOSTILE,))
    bench.context.directory.execute([ModifyEntry(entry, (change,))], atomic=True)
    row = PageRow(HOSTILE, HOSTILE, HOSTILE, HOSTILE, HOSTILE, new=True)
    figure = Statistic("kinds", HOSTILE, HOSTILE, (HOSTILE,), ((HOSTILE, (3,)),), note=HOSTILE)
    rule = PageRule("dangling", "fault", HOSTILE, HOSTILE, [row] * (MOST_ROWS + 1))
    page = render(AuditPage(HOSTILE, HOSTILE, HOSTILE, HOSTILE, [rule], [figure]))
    assert "<script>alert" not in page and "<img" not in page
    assert f"The first {MOST_ROWS} of {MOST_ROWS + 1}" in page
    whole = render(page_of(audit(bench.context, AuditRequest(), None)))
    assert "<script>alert" not in whole


_CHROMIUM = (
    "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--enable-logging=stderr", "--virtual-time-budget=2000",
)  # fmt: skip
#: Types into the search, sorts a table by its first column, and says what is seen then.
_USE = """
<script>
addEventListener("load", () => {
  const seen = () => document.querySelectorAll(".rule tbody tr:not([hidden])").length;
  const all = seen(), search = document.getElementById("search");
  search.value = "SAMUEL bright"; search.dispatchEvent(new Event("input"));
  const some = seen(), said = document.getElementById("shown").textContent;
  search.value = ""; search.dispatchEvent(new Event("input"));
  const head = document.querySelector("#person-twice ~ table th");
  head.querySelector("button").click(); head.querySelector("button").click();
  const first = document.querySelector("#person-twice ~ table tbody td").textContent;
  document.body.dataset.told = [all, some, said, seen(), head.getAttribute("aria-sort"), first].join("|");
});
</script>
"""


def browse(folder: Path, *words: str) -> subprocess.CompletedProcess[str]:
    if shutil.which("chromium") is None:
        not_installed("chromium, which reads pages")
    return subprocess.run(
        ["chromium", *_CHROMIUM, f"--user-data-dir={folder / 'browser'}", *words],
        capture_output=True, text=True, timeout=120, check=True,
    )  # fmt: skip


def test_a_browser_searches_sorts_and_prints_the_page_without_a_complaint(demo):
    demo.run("audit", "--page", "audit.html")
    page = demo.path / "audit.html"
    page.write_text(page.read_text().replace("</body>", f"{_USE}</body>"))
    shown = browse(demo.path, "--dump-dom", page.as_uri())
    told = re.search(r'data-told="([^"]*)"', shown.stdout)
    assert told is not None, shown.stderr
    everything, some, said, again, order, first = told[1].split("|")
    assert int(everything) == int(again) > int(some) == 2
    assert said == f"2 of {everything} rows"
    assert (order, first) == ("descending", "sbright (Samuel Bright)")
    assert "CONSOLE" not in shown.stderr
    browse(demo.path, f"--print-to-pdf={demo.path / 'page.pdf'}", page.as_uri())
    assert (demo.path / "page.pdf").read_bytes().startswith(b"%PDF")
