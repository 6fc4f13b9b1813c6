"""The tree of folders as data: addresses, columns of tables, the order of folders, patterns of paths."""
