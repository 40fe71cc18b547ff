"""Strings: preparation for matching, transliteration, names of people, near spellings."""
