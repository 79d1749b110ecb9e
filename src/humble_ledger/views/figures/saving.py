"""Writing a figure into a file: the one place where its texts become safe and its fonts are set."""

from __future__ import annotations

import warnings
from pathlib import Path
from typing import TYPE_CHECKING

from humble_ledger.views.escaping import escaped

if TYPE_CHECKING:
    from matplotlib.figure import Figure


def save(figure: Figure, path: Path, dpi: float | None = None) -> None:
    """Write a figure; what stands in it is never read as mathematics, and nothing in it acts.

    Raises:
        OSError: the file cannot be written.
        ValueError: Matplotlib does not know the ending.
    """
    import matplotlib as mpl  # noqa: PLC0415 - slow to import
    from matplotlib.text import Text  # noqa: PLC0415

    for text in figure.findobj(Text):
        assert isinstance(text, Text)
        text.set_parse_math(False)  # a $ in a name is a $
        text.set_text(escaped(text.get_text()))
    mpl.rcParams["svg.fonttype"] = "none"  # text stays text: it can be searched and copied
    with warnings.catch_warnings():
        warnings.filterwarnings("ignore", "Glyph .* missing")  # shown as a box, which is enough
        figure.savefig(path, dpi="figure" if dpi is None else dpi)
