"""office.yaml, the plan in one file: its schema, reading it with line numbers, editing it in place."""
