"""One bar a name: the plainest printed figure."""

from __future__ import annotations

from collections.abc import Sequence

from zerotilt.report.figures import INK, SOFT, VERDIGRIS, Drawing, short

WIDE = 7.2


SHOWN = 20


def bars(names: Sequence[str], values: Sequence[float], label: str, spans=None, colours=None) -> Drawing:
    """One bar a name, largest on top, with intervals where there are any."""

    def paint(axes):
        for place, value in enumerate(values):
            axes.barh(place, value, height=0.5, color=colours[place] if colours else VERDIGRIS)
            if spans is not None:
                axes.plot(spans[place], [place, place], color=INK, lw=1)
        axes.set_yticks(range(len(names)), [short(name) for name in names])
        axes.invert_yaxis()
        axes.axvline(0, color=SOFT, lw=0.6)
        axes.set_xlabel(label)
        axes.tick_params(length=0)

    return Drawing(WIDE, 0.7 + 0.27 * max(len(names), 1), paint)
