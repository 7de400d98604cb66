"""Writes the API's own description to a file, from which the pages' types are made."""

from __future__ import annotations

import json
import sys
from pathlib import Path

from mossy_trail.web.app import create_app

if __name__ == "__main__":
    Path(sys.argv[1]).write_text(json.dumps(create_app().openapi(), indent=1, sort_keys=True))
