"""The tour: comment, words of the command, expected exit code."""

from __future__ import annotations

TOUR: list[tuple[str, list[str], int]] = [
    ("One person, from a fragment of the name. First whether she can log on, then what is known about her.",
     ["show", "ødeg"], 0),
    ("Several people fit: the candidates are listed, and nothing is guessed.",
     ["show", "lund"], 31),
    ("A distinguished name alone, escaped, ready to paste into another system.",
     ["show", "alund", "--bare", "dn"], 0),
    ("A list by conditions, with columns of your choice.",
     ["find", "site=Northquay", "title=*mate*", "--columns", "login,full,title,phone,manager", "--by", "surname"], 0),
    ("A second mate joins. Every value is worked out by the charter and shown with its rule; the logon name "
     "that he would have first is taken, so he gets the next rung.",
     ["create", "crew", "Asbjørn Lund", "language=nb", "number=2014", "site=Northquay", "department=Deck",
      "category=Officers", "title=Second mate", "manager=hbrekke", "--hand-out", "hand-out.csv", "--yes"], 0),
    ("What is wrong or missing is named in one go, and nothing is written.",
     ["create", "crew", "Tor Vik", "site=Northqay", "--dry-run"], 16),
    ("Change fields, add one value of a list, join a group: before and after are shown, then what the directory has.",
     ["edit", "hbrekke", "office=Bridge", "phone+=+47 5555 0999", "groups+=may-sailing-plan", "--yes"], 0),
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
    ("And one job step by step, with what was there before.",
     ["journal", "6"], 0),
]  # fmt: skip
