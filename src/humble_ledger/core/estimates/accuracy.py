"""How far the planner's row estimates are off, and at which step it began."""

from __future__ import annotations

from dataclasses import dataclass

from humble_ledger.core.plans.model import Node, Operation, Plan, Role

FAR_OFF = 10.0
FEWEST_ROWS = 20.0  # fewer rows than this can hardly mislead a plan
# These read their input only until they have enough, so "seen" says nothing of the estimate.
_STOPS_EARLY = (Operation.LIMIT, Operation.MERGE_JOIN)
# Their rows are their children's: an error there is not theirs.
_PASSES_ON = (Operation.BITMAP_INDEX, Operation.HASH, Operation.MATERIALIZE, Operation.MEMOIZE)


@dataclass(frozen=True, slots=True)
class RowError:
    """A step whose rows differ from the estimate: ``factor`` times, at least 1.

    ``under`` tells that more came than expected. Rows are per loop.
    """

    node: Node
    factor: float
    under: bool

    @property
    def far_off(self) -> bool:
        """Whether it is off at least `FAR_OFF` times."""
        return self.factor >= FAR_OFF


def row_error(node: Node) -> RowError | None:
    """The error of one step: max(seen, ½) / max(expected, ½) or its inverse."""
    if node.rows_seen is None or node.rows_expected is None or node.never_ran:
        return None
    ratio = max(node.rows_seen, 0.5) / max(node.rows_expected, 0.5)
    return RowError(node, max(ratio, 1.0 / ratio), ratio > 1.0)


def origins(plan: Plan, factor: float = FAR_OFF) -> list[RowError]:
    """The lowest steps that are off by ``factor`` while their inputs are fine.

    Steps that are cut short by a LIMIT above them, or by the other input of a merge join,
    are left out: the server counted only what was read.
    """
    found: list[RowError] = []
    _search(plan.root, factor, False, found)
    return found


def _search(node: Node, factor: float, cut_short: bool, found: list[RowError]) -> bool:
    """Whether this step or one below is off; origins are added to ``found``."""
    # A sort or hash reads all its input, whatever is wanted of it above.
    reads_all = node.operation in (Operation.SORT, Operation.HASH, Operation.AGGREGATE)
    below_cut = (cut_short and not reads_all) or node.operation in _STOPS_EARLY
    # Every input has to be looked at, so no shortcut here.
    off_below = [_search(child, factor, below_cut, found) for child in node.children]
    if any(off_below):
        return True
    error = row_error(node)
    if error is None or error.factor < factor or cut_short or node.operation in _PASSES_ON:
        return False
    if node.role is Role.INNER and node.operation is Operation.MATERIALIZE:
        return False
    rows = max(node.rows_seen or 0.0, node.rows_expected or 0.0) * max(node.loops or 1.0, 1.0)
    if rows < FEWEST_ROWS:
        return False
    found.append(error)
    return True
