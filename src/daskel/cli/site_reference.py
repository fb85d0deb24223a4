"""The reference of the site file, made from the text of its model."""

from __future__ import annotations

import inspect
import json

from daskel.core.site import tables
from daskel.core.site.reference import TableText, json_schema, reference


def site_reference() -> list[TableText]:
    """All tables and keys."""
    return reference(inspect.getsource(tables))


def schema_text() -> str:
    """The JSON Schema, as a file has it."""
    found = json_schema(inspect.getsource(tables))
    return json.dumps(found, indent=2, ensure_ascii=False) + "\n"
