"""The ledger: one SQLite file of dated counts. SQL lives nowhere else."""
