"""The JSON documents, version 1: their structures, and how entries fill them.

Keys may be added, never renamed. A key carries its unit: ``_ms``, ``_bytes``, ``_pages``,
``_rows``; null means unknown or not measured. The JSON Schemas in `docs/schemas/` are made from
these structures.
"""
