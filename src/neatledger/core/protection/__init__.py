"""Would it come back: what was found of snapshots and backups, beside what the plan wants of each folder."""
