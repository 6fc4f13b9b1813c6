"""Serve the sample office's team folders: ``python -m neatledger.demo.service FILE [--port N]``."""

from __future__ import annotations

import argparse
import os
import sys
import time
from pathlib import Path

from neatledger.demo.meadow import READER, groups, nodes, shared_tables, users
from neatledger.demo.service.server import Service

__all__ = ["main"]


def main() -> int:
    """Serve until stopped; a new file is filled with the sample office's."""
    parser = argparse.ArgumentParser(prog="python -m neatledger.demo.service", description=__doc__)
    parser.add_argument("file", type=Path, metavar="FILE", help="where the service keeps everything (SQLite)")
    parser.add_argument("--port", type=int, default=0, help="the port on loopback (default: a free one)")
    args = parser.parse_args()
    password = os.environ.get("MEADOW_PASSWORD", "")
    if not password:
        print(f"set MEADOW_PASSWORD: the password with which {READER} is to sign in", file=sys.stderr)
        return 2
    is_new = not args.file.exists()
    with Service(args.file, args.port) as service:
        if is_new:
            service.store.fill(users(), groups(), nodes(), shared_tables())
        service.store.set_password(READER, password)
        print(service.url, flush=True)
        try:
            while True:
                time.sleep(3600)
        except KeyboardInterrupt:
            return 0


if __name__ == "__main__":
    sys.exit(main())
