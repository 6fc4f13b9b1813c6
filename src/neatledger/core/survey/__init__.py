"""What one source saw of one system, as records: accounts, folders and files, limits told, and what is shared."""
