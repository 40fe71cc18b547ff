"""Invented people, as many as wanted, with the difficult names of real life: for rehearsals."""

from __future__ import annotations

import random
from collections.abc import Iterator, Sequence
from itertools import product

from vandrel.charter.charter import Charter
from vandrel.charter.pattern import parse
from vandrel.errors import VandrelError

#: Language, given names, surnames. All made up from common ones; any likeness is chance.
_PEOPLE: tuple[tuple[str, str, str], ...] = (
    ("nb", "Astrid Bjørn Eirik Gro Håkon Ingunn Jorunn Kåre Liv Magnhild Njål Oddvar Ragnhild Sindre Tørres Øystein",
     "Aas Bråten Dahl Eide Fjørtoft Grønli Haugen Kvåle Løken Moen Nygård Ødegaard Sæbø Tveit Ås Åsen"),
    ("sv", "Agda Björn Cajsa Efraim Göran Håkan Ingeborg Kjell Märta Nils Örjan Pär Sigge Tyra Ulla-Britt Åke",
     "Ahlström Bergsjö Dahlqvist Ekblad Fägerskiöld Gåsström Hägg Källström Nyström Öberg Sjöö Wåhlin Åkerö"),
    ("de", "Anke Björn Dörte Friedhelm Gesche Heinz-Jürgen Imke Jürgen Käthe Lüder Maike Norbert Rüdiger Sönke Uwe",
     "Behrens Brüggemann Dörfler Großmann Hövelmann Jansen Köster Lührs Müller-Lüdenscheidt Niebüll Ostermöller Preuß "
     "Schäfer Strauß von_der_Heide zur_Mühlen"),
    ("pl", "Agnieszka Bogusław Celina Dariusz Elżbieta Grażyna Józef Łucja Małgorzata Paweł Stanisław Świętosława",
     "Błaszczyk Dąbrowska Grzęda Jędrzejczyk Kołodziej Łukasik Mączka Nowak-Zięba Ostrówka Pękala Ślusarz Wójcik Żak"),
    ("fr", "Aimée Benoît Chloé Désirée Étienne François Gaëlle Hélène Jean-Loup Léa Noël Océane Rémi Zoé",
     "Beauchêne Caïssa d'Aubigné Delaunay Évrard Guérin L'Hermitte Le_Bœuf Lefèvre Maçon Noël Péron Quéré Rouvière"),
    ("es", "Álvaro Begoña Concepción Dulce_María Eugenio Íñigo José_Luis Lucía Martín Nuria Óscar Pilar Sebastián",
     "Alarcón_Ibáñez Benítez Cañadas de_la_Peña Escribá Fernández_Núñez García Ibarra López_Muñoz Ordóñez Sáez"),
    ("tr", "Ayşe Barış Cağan Çiğdem Erdoğan Gülşah İbrahim Işıl Mehmet Oğuz Özge Şükran Ümit Yiğit",
     "Akgün Bayraktar Çelik Doğan Erdoğdu Gökçe İnce Işık Karakuş Öztürk Şahin Türkoğlu Ünal Yıldız"),
    ("is", "Aðalheiður Birgir Dagný Eyþór Guðrún Hallgrímur Ísleifur Jökull Kolbrún Sigurþór Þórdís Össur",
     "Aðalsteinsdóttir Björnsson Eggertsdóttir Guðmundsson Hreiðarsdóttir Jóhannsson Kristjánsdóttir Þorvaldsson"),
    ("el", "Αγγελική Γεώργιος Ελένη Θεόδωρος Ιωάννης Κωνσταντίνα Μιχαήλ Νικόλαος Παναγιώτα Χρήστος",
     "Αναγνώστου Γεωργιάδης Δημητρίου Ευθυμίου Ζαχαρίας Θεοδωράκη Καραγιάννης Λάμπρου Μαυρίδης Χατζής"),
    ("uk", "Андрій Богдана Галина Євген Жанна Ігор Їжак Людмила Надія Олег Соломія Тарас Юлія Ярослав",
     "Андрієнко Бойчук Гнатюк Дем'яненко Євтушенко Жук Іваненко Кравець Мельник Онищенко Шевчук Щербак Яценко"),
    ("en", "Aoife Brendan Ciarán Deirdre Fionnuala Gwendolyn Mary-Ann Niamh Owen Pádraig Rhys Saoirse Siân Wilfred",
     "Ashdown Blackwood-Price Carrick Doherty Fitzgerald McGrath Ní_Riain O'Dwyer O'Neill Pryce St_John Wren"),
    ("nl", "Anouk Bram Femke Geert Joost Katelijne Lieke Maarten Noor Pieter-Jan Sjoerd Wietske",
     "Bakker de_Boer Hoekstra Kuiper ten_Brink van_Dijk van_den_Berg van_'t_Hof Visser Zijlstra"),
    ("vi", "Anh Bích Cường Đức Hạnh Hương Linh Minh Ngọc Phượng Quỳnh Thảo Tuấn",
     "Bùi Đặng Đỗ Hồ Lê Ngô Nguyễn Phạm Trần Võ"),
)  # fmt: skip


def people(count: int, seed: int = 0) -> Iterator[tuple[str, str, str]]:
    """(language, given name, surname) of invented people, the same for the same seed; each pair of names once.

    When all pairs are used up, further given names make new ones.
    """
    chance = random.Random(seed)
    used: set[tuple[str, str]] = set()
    while len(used) < count:
        language, given_names, surnames = chance.choice(_PEOPLE)
        given, surname = chance.choice(given_names.split()), chance.choice(surnames.split())
        if (given, surname) in used or chance.random() < 0.1:
            given = f"{given} {chance.choice(given_names.split())}"
        if (given, surname) in used:
            given = f"{given} {chance.choice(given_names.split())}"
        if (given, surname) in used:
            continue
        used.add((given, surname))
        yield language, given.replace("_", " "), surname.replace("_", " ")


def rows(
    charter: Charter, kind: str, count: int, first: int = 7001, seed: int = 0
) -> tuple[list[str], Iterator[list[str]]]:
    """A table of invented people of a kind: the header, in our own field names, and the rows.

    Raises:
        VandrelError: ``unknown-kind``.

    """
    required = [name for name in charter.kind(kind).requires if name in charter.fields]
    lists = charter.document.lists
    more = [name for name in (*required, *lists) if name not in ("surname", "given", "number", "language")]
    header = ["number", "given", "surname", "language", *dict.fromkeys(more)]

    choices = _where(charter, kind)

    def made() -> Iterator[list[str]]:
        chance = random.Random(seed + 1)
        for number, (language, given, surname) in enumerate(people(count, seed), first):
            words = chance.choice(choices)
            values = [words.get(name) or _value(chance, lists, name) for name in header[4:]]
            yield [str(number), given, surname, language, *values]

    return header, made()


def _where(charter: Charter, kind: str) -> list[dict[str, str]]:
    """The choices of words for which the place of a kind is a unit of the design that holds it."""
    pattern = charter.kind(kind).place
    fields = sorted(parse(pattern).fields() & charter.document.lists.keys())
    places = []
    for words in product(*(charter.document.lists[field] for field in fields)):
        choice = dict(zip(fields, words, strict=True))
        try:
            unit = charter.designed(charter.place_of(pattern, choice))
        except VandrelError:
            continue  # it needs more than the lists
        if unit is not None and (not unit.holds or kind in unit.holds):
            places.append(choice)
    return places or [{}]


def _value(chance: random.Random, lists: dict[str, list[str]], name: str) -> str:
    words: Sequence[str] = lists.get(name, ())
    if words:
        return chance.choice(list(words))
    return {"company": "Rehearsal Ltd", "title": "Rehearsing", "notes": "Invented for a rehearsal"}.get(name, "")
