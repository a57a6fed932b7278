"""An audit's own words within results: kept as named places, and filled in when a result is read.

Results hold sentences and labels, and in them what a row, the event, the unit and the decisions are called. Numbers do not
change with these names, so a result computed before they were changed is told in today's without being computed again.
While a method computes, each word stands between two marks that no text of people holds; then the marks are taken out, and
where they were is kept beside the result.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import Any

from zerotilt.core import words
from zerotilt.core.marks import BEGIN, END, MARKED, spaced, unmarked
from zerotilt.core.meaning import Spec, Wording
from zerotilt.core.refusal import Refused
from zerotilt.core.tasks import kind_of

Path = tuple[str | int, ...]
Places = tuple[tuple[Path, str], ...]
"""Where texts with named places stand in a result, and the texts, each word as the letter of its place between marks."""
LETTERS = {"row": "r", "rows": "s", "event": "e", "unit": "u", "favourable": "f", "unfavourable": "n"}
_PLACE = re.compile(f" ?{BEGIN}([a-zA-Z]){END}")


def own_words(spec: Spec) -> dict[str, str]:
    """The word for each place in a meaning."""
    found = {letter: getattr(spec.wording, name) for name, letter in LETTERS.items()}
    # where nobody gave the event a name it is told by its column and value, which is a name that can be changed, too
    return found | ({"e": spec.event_phrase} if kind_of(spec.task).cut else {})


def marked(spec: Spec) -> Spec:
    """The meaning with each of its words between marks. An empty unit has its place, too; other empty words have none."""
    own = own_words(spec)
    told = {
        name: f"{BEGIN}{letter}{own[letter]}{END}" if own[letter] or name == "unit" else ""
        for name, letter in LETTERS.items()
    }
    return spec.model_copy(update={"wording": Wording(**told)})


def taken_out(result: Any, spec: Spec) -> tuple[Any, Places]:
    """A result as JSON without marks, and where words stood."""
    own = own_words(spec)

    def letter(found: re.Match[str]) -> str:
        was = own[found[1]]
        began = found[2] != was and found[2] == words.opening(was)  # it opened a sentence
        lead = " " if found[0].startswith(" ") else ""
        return f"{lead}{BEGIN}{found[1].upper() if began else found[1]}{END}"

    places = tuple((path, MARKED.sub(letter, text)) for path, text in _texts(result, ()))
    return filled(result, [(path, unmarked(text)) for path, text in _texts(result, ())]), places


def _texts(value: Any, path: Path) -> Iterator[tuple[Path, str]]:
    if isinstance(value, str):
        if BEGIN in value:
            yield path, value
    elif isinstance(value, dict):
        for name, one in value.items():
            yield from _texts(one, (*path, name))
    elif isinstance(value, list | tuple):
        for place, one in enumerate(value):
            yield from _texts(one, (*path, place))


def in_words(result: Any, places: Places, spec: Spec) -> Any:
    """A result in the words of a meaning."""
    own = own_words(spec)

    def word(found: re.Match[str]) -> str:
        told = own[found[1].lower()]
        return spaced(found[0], words.opening(told) if found[1].isupper() else told)

    return filled(result, [(path, _PLACE.sub(word, text)) for path, text in places])


def filled(result: Any, texts: Sequence[tuple[Path, str]]) -> Any:
    """A result with other texts at some places; nothing of the one given is changed."""
    if not texts:
        return result
    if not texts[0][0]:
        return texts[0][1]
    by_first: dict[str | int, list[tuple[Path, str]]] = {}
    for path, text in texts:
        by_first.setdefault(path[0], []).append((path[1:], text))
    copy: Any = dict(result) if isinstance(result, dict) else list(result)
    for first, rest in by_first.items():
        copy[first] = filled(copy[first], rest)
    return copy


def unmarked_refusal(problem: Refused) -> Refused:
    """A refusal without marks."""
    where, todo = (text and unmarked(text) for text in (problem.where, problem.todo))
    return type(problem)(unmarked(problem.message), where=where, todo=todo, choices=problem.choices)
