"""Any answer as a table of pandas, from Python: what a command shows, whole, and with types.

Whole numbers stay whole where some are not known; days and moments are such; truths are truths. The columns are those
of CSV (docs/outputs.md).
"""

from __future__ import annotations

import io
import os
from contextlib import closing
from dataclasses import replace
from datetime import date
from importlib import import_module
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from neatledger.app import App, Streams
from neatledger.cli import command_called, parse_call
from neatledger.errors import UsageError
from neatledger.extras import extras_for

__all__ = ["frame"]

_ACTS = ("--write", "--carry-out", "--undo", "--go-on", "--send", "--decide", "--accept")


def frame(
    office_dir: Path | str, command: str, *words: str, as_of: date | None = None, today: date | None = None
) -> Any:
    """Return what a command answers, as a table: ``frame("demo-office", "who", "barn:/Payroll")``.

    `words` are those of the command line. Raises the errors of `neatledger.errors`, and `UsageError` where the
    command gives no table, or would change something.
    """
    name = command_called(command)
    acts = [word for word in words if word.partition("=")[0] in _ACTS]
    if acts or name in _NO_ANSWERS:
        what = f"{name} {' '.join(acts)}".rstrip()
        raise UsageError(f"{what} is no question", hint="who, reach, space, check and others are")
    with extras_for(name), TemporaryDirectory() as folder:
        import pandas  # noqa: F401 (what is not there is told before anything is asked)
        import pyarrow.parquet as pq

        target = Path(folder) / "answer.parquet"
        try:
            args, options = parse_call(name, [*words, "-o", str(target), "-q"])
        except SystemExit:
            raise UsageError("help is no table", hint=f"neatledger {name} --help") from None
        options = replace(options, office=str(office_dir), as_of=as_of, today=today)
        said = io.StringIO()
        with closing(App(options, Streams(said, said, 0, False), os.environ)) as app:
            import_module(f"neatledger.commands.{name}").run(args, app)
        if not target.exists():
            raise UsageError(f"{' '.join((name, *words))} gives no table", hint="a question that shows one does")
        return pq.read_table(target).to_pandas(types_mapper=_nullable, date_as_object=False)


_NO_ANSWERS = ("connect", "count", "demo", "draft", "help", "join", "leave", "move", "notices", "report")
"""What makes, writes or tells, and answers no question."""


def _nullable(kind: Any) -> Any:
    """Return the type of pandas that has room for what is not known, for a type of a column."""
    import pandas as pd
    import pyarrow as pa

    if pa.types.is_int64(kind):
        return pd.Int64Dtype()
    if pa.types.is_boolean(kind):
        return pd.BooleanDtype()
    return pd.StringDtype() if pa.types.is_string(kind) else None
