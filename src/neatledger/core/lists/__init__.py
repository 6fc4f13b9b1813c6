"""Access lists: one model a file, all behind the contract in `contract.py`, listed in `table.py`."""
