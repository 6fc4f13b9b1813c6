"""Roll the usage of a ledger's last count up its tree, by owner and by kind:  python bench/roll_up.py OFFICE"""

from __future__ import annotations

import gc
import sys
from pathlib import Path

from neatledger.core.plan.space import SpaceRules
from neatledger.ledger.opening import open_ledger
from neatledger.ledger.space import SpaceView


def main() -> None:
    gc.disable()  # as the command does
    ledger = open_ledger(Path(sys.argv[1]) / "ledger.db")
    usage = SpaceView(ledger.read_survey(ledger.find_count().surveys[0]), SpaceRules()).usage()
    for name in ("owner", "kind"):
        folders, _, figures = usage.roll_up_by(getattr(usage.items, name))
        root = folders == 0
        assert (figures[root].sum(axis=0) == usage.totals[0]).all(), "the root's parts are the whole"
        print(f"by {name}: {len(folders):,} rows")


if __name__ == "__main__":
    main()
