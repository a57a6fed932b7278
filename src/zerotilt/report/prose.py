"""What people write between the figures: Markdown, in which a computed number is named and never typed."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping

from markdown_it import MarkdownIt
from markdown_it.renderer import RendererHTML
from markdown_it.rules_inline import StateInline
from markupsafe import Markup, escape

from zerotilt.report.numbers import Number

REFERENCE = re.compile(r"@\{([^{}\n]{1,400})\}")
"""``@{performance / hold-out / accuracy}``"""


def _reference(state: StateInline, silent: bool) -> bool:
    found = REFERENCE.match(state.src, state.pos)
    if found is None:
        return False
    if not silent:
        state.push("number", "", 0).content = found[1].strip()
    state.pos = found.end()
    return True


def _reader() -> MarkdownIt:
    """Markdown without markup of other kinds: what looks like HTML is text; pictures are not fetched from anywhere."""
    made = MarkdownIt("commonmark", {"html": False, "typographer": False}).enable("table").disable("image")
    made.inline.ruler.before("emphasis", "number", _reference)
    return made


def html(text: str, numbers: Mapping[str, Number], trace: Callable[[str], str], lowest: int = 3) -> Markup:
    """A text as HTML.

    Parameters
    ----------
    trace : the mark of a piece of evidence by its key; a link beside the number. lowest : level of the highest heading.
    """
    reader = _reader()

    def number(tokens, place, options, env) -> str:
        name = tokens[place].content
        found = numbers.get(name)
        if found is None:
            return f'<mark class="gone">{escape(f"no number is called “{name}” here")}</mark>'
        mark = trace(found.key) if found.key else ""
        link = f' <a class="trace" href="#{escape(mark)}">[{escape(mark)}]</a>' if mark else ""
        title = f' title="{escape(found.more)}"' if found.more else ""
        return f'<span class="number" data-name="{escape(name)}"{title}>{escape(found.text)}</span>{link}'

    tokens = reader.parse(text)
    for token in tokens:
        if token.type in ("heading_open", "heading_close"):
            token.tag = f"h{min(6, int(token.tag[1:]) + lowest - 1)}"
    renderer = RendererHTML()
    renderer.rules["number"] = number
    return Markup(renderer.render(tokens, reader.options, {}))


def named(text: str) -> list[str]:
    """The numbers that a text names."""
    return [one.strip() for one in REFERENCE.findall(text)]


def unknown(text: str, numbers: Mapping[str, Number]) -> list[str]:
    """The numbers that a text names and that are not there."""
    return [one for one in dict.fromkeys(named(text)) if one not in numbers]
