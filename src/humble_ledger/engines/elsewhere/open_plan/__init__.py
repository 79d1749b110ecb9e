"""The open plan document (docs/formats/plan.md), written by whoever wants to."""
