"""Write the service's OpenAPI document: `python tools/openapi.py FILE`. The console's types are made from it."""

import json
import sys
from pathlib import Path

from rust_gauge.service.app import create_app

if __name__ == "__main__":
    Path(sys.argv[1]).write_text(json.dumps(create_app(None).openapi(), indent=1, ensure_ascii=False) + "\n", "utf-8")
