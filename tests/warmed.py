"""Run once where the tests' runs are forked from: what Python works out once is there for all.

Building the commands and the first questions to a ledger take longer than most commands do.
"""

from __future__ import annotations

import contextlib
import gc
import io
import tempfile
from pathlib import Path

from humble_ledger.cli.entry import run
from humble_ledger.ledger.repository import Ledger

with tempfile.TemporaryDirectory() as _folder, contextlib.redirect_stdout(io.StringIO()):
    with Ledger(Path(_folder) / "humble.ledger", create=True) as _ledger:
        _ledger.queries.keep("SELECT 1")
        _ledger.queries.all()
        _ledger.history()
    run(["queries", "--help"])
gc.freeze()
