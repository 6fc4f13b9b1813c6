"""Access lists, one model a file behind one contract, with their rights, holders, privileges and identifiers."""
