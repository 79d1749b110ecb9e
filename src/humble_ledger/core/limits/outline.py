"""A plan in a few lines that can be kept in a file and compared: what is done, on what, by what."""

from __future__ import annotations

from collections.abc import Sequence
from difflib import ndiff

from humble_ledger.core.plans.model import Node, Plan

_INDENT = "  "


def outline(plan: Plan) -> tuple[str, ...]:
    """One line for each step, indented as deep as it stands: "index scan reading by reading_at".

    Figures are left out, so that only another plan makes another outline.
    """
    found: list[str] = []

    def add(node: Node, depth: int) -> None:
        found.append(_INDENT * depth + _words(node))
        for child in node.children:
            add(child, depth + 1)

    add(plan.root, 0)
    return tuple(found)


def difference(before: Sequence[str], now: Sequence[str]) -> list[str]:
    """The two outlines in one: lines that went begin with "-", new ones with "+"."""
    return [line for line in ndiff(before, now) if not line.startswith("?")]


def _words(node: Node) -> str:
    words = node.operation.value.replace("_", " ")
    if node.relation:
        words += f" {node.relation}"
    if node.index:
        words += f" by {node.index}"
    return words
