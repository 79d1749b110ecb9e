"""The JSON documents: their structures, and how entries fill them.

Keys may be added; where one is renamed, the version of its document is raised. A key carries
its unit: ``_ms``, ``_bytes``, ``_pages``, ``_rows``; null means unknown or not measured. The JSON
Schemas in `docs/schemas/` are made from these structures.
"""
