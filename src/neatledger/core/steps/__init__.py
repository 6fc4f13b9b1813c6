"""Steps: one change of one thing on one system, as a value that can be applied, turned round and put into words."""
