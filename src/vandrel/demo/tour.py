"""The tour: comment, words of the command, expected exit code."""

from __future__ import annotations

TOUR: list[tuple[str, list[str], int]] = [
    ("One person, from a fragment of the name. First whether she can log on, then everything about her.",
     ["show", "ódeg"], 30),
    ("Nothing fits that, but something is near. Müller is found as mueller, too.",
     ["show", "mueller j"], 0),
    ("Several people fit: the candidates are listed, and nothing is guessed.",
     ["show", "lund"], 31),
    ("A distinguished name alone, escaped, ready to paste into another system.",
     ["show", "alund", "--bare", "dn"], 0),
    ("A list by conditions, with columns of your choice.",
     ["find", "site=Northquay", "title=*mate*", "--columns", "login,full,title,phone,manager", "--by", "surname"], 0),
    ("A second mate joins. Every value is worked out by the charter and shown with its rule; another Astrid Lund-to-be "
     "would get the next rung.",
     ["create", "crew", "Asbjørn Lund", "language=nb", "number=2014", "site=Northquay", "department=Deck",
      "category=Officers", "title=Second mate", "manager=hbrekke", "password=generate", "--hand-out", "hand-out.csv", "--yes"], 0),
    ("What is missing is named at once, all of it, and nothing is written.",
     ["create", "crew", "Tor Vik", "site=Northqay", "--dry-run"], 26),
    ("Change fields, add one value of a list, join a group: before and after are shown.",
     ["edit", "hbrekke", "office=Bridge", "phone+=+47 5555 0999", "groups+=dl-sailing-plan", "--yes"], 0),
    ("A password never stands on a command line.",
     ["edit", "hbrekke", "password=Sommer2026!"], 2),
    ("A group by its convention, with its members.",
     ["create", "group", "Night watch", "kind=team", "members=alund,hbrekke", "--yes"], 0),
    ("A unit that the charter does not know is made, and noted as a stranger.",
     ["create", "unit", "/Ferries/Northquay/Stores", "--yes"], 0),
    ("The design beside what exists.",
     ["hierarchy"], 0),
    ("Which conventions do the names that are there follow?",
     ["charter", "infer", "login"], 0),
    ("What was done, when, by whom.",
     ["journal"], 0),
    ("And step by step.",
     ["journal", "6"], 0),
]  # fmt: skip
