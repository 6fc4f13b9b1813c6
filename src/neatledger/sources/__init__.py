"""Outside systems, one a file, each yielding a `core.survey.Survey`; the table is in `table.py`."""
