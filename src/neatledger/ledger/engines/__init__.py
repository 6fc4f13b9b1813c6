"""The engines that a ledger can lie in, behind one contract: a file of SQLite's, or a database of PostgreSQL's."""
