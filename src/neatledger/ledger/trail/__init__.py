"""What was done, in the ledger: blocks of records, and what they name once by number."""
