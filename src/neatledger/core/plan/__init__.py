"""What the office means to have, as records: people, groups, folders, limits, rules of storing and sharing."""
