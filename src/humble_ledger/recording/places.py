"""Which line of the application is running: the nearest frame outside of libraries."""

from __future__ import annotations

import os
import sys
from collections.abc import Collection
from pathlib import Path

_LIBRARIES = (f"{os.sep}site-packages{os.sep}", f"{os.sep}dist-packages{os.sep}")
_STANDARD = str(Path(os.__file__).parent) + os.sep
_OURS = str(Path(__file__).parent) + os.sep
_MOST_PARTS = 3  # of a path that lies elsewhere
_MOST_FRAMES = 200


class Places:
    """Knows which files are the application's.

    Those are files that are no part of Python and of no installed package, but for ``packages``.
    Paths are told from ``root`` on.
    """

    def __init__(self, root: str, packages: Collection[str] = ()) -> None:
        self._root = os.path.join(os.path.abspath(root), "")
        self._own = tuple(
            f"{folder}{name}{end}" for folder in _LIBRARIES for name in packages
            for end in (os.sep, ".py")
        )  # fmt: skip
        # Each file's name as it is shown, "" for one of a library.
        self._shown: dict[str, str] = {}

    def caller(self, skipped: int = 0) -> tuple[str, str]:
        """The place ("shop/catalogue.py:88") and its function; "" when there is none.

        ``skipped`` frames above the caller's are known to be none of the application's: each that
        is looked at costs some tenths of a microsecond, also later, when it ends.
        """
        shown = self._shown
        frame = sys._getframe(1 + skipped)
        for _ in range(_MOST_FRAMES):
            code = frame.f_code
            name = shown.get(code.co_filename)
            if name is None:
                name = shown[code.co_filename] = self._name(code.co_filename)
            if name:
                # Where a function of a function stands says little.
                function = code.co_qualname.rpartition("<locals>.")[2].removeprefix("<module>")
                return f"{name}:{frame.f_lineno}", function
            if frame.f_back is None:
                break
            frame = frame.f_back
        return "", ""

    def _name(self, path: str) -> str:
        if path.startswith(("<", _OURS)):
            return ""
        own = any(each in path for each in self._own)
        if not own and (any(each in path for each in _LIBRARIES) or path.startswith(_STANDARD)):
            return ""
        if path.startswith(self._root):
            return path[len(self._root) :].replace(os.sep, "/")
        return "/".join(Path(path).parts[-_MOST_PARTS:]).lstrip("/")
