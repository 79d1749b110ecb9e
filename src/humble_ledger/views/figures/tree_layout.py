"""Where the steps of a tree stand: one layer for each depth, no two in the same place."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from humble_ledger.core.plans.model import Node


@dataclass(frozen=True, slots=True)
class Place:
    """A step's layer (0 for the root) and its place along the layer, from 0; both in steps."""

    layer: int
    along: float


def places(root: Node) -> Mapping[int, Place]:
    """The place of every step by its number.

    Each step stands amid its inputs. Branches are pushed together until they touch: two steps
    of one layer are never less than 1 apart.
    """
    found = _relative(root, 0)[0]
    least = min(place.along for place in found.values())
    return {no: Place(place.layer, place.along - least) for no, place in found.items()}


def _relative(node: Node, layer: int) -> tuple[dict[int, Place], dict[int, tuple[float, float]]]:
    """The places of a branch, its root at 0 along, and its reach in each layer."""
    found: dict[int, Place] = {}
    reach: dict[int, tuple[float, float]] = {}
    roots = []
    for child in node.children:
        branch, outline = _relative(child, layer + 1)
        shift = max(
            (reach[deep][1] + 1.0 - outline[deep][0] for deep in outline if deep in reach),
            default=0.0,
        )
        roots.append(shift)
        for no, place in branch.items():
            found[no] = Place(place.layer, place.along + shift)
        for deep, (first, last) in outline.items():
            low, high = reach.get(deep, (first + shift, last + shift))
            reach[deep] = (min(low, first + shift), max(high, last + shift))
    middle = (roots[0] + roots[-1]) / 2 if roots else 0.0
    moved = {no: Place(place.layer, place.along - middle) for no, place in found.items()}
    moved[node.no] = Place(layer, 0.0)
    reach = {deep: (low - middle, high - middle) for deep, (low, high) in reach.items()}
    reach[layer] = (0.0, 0.0)
    return moved, reach
