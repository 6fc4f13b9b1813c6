"""What some commands do besides what they are called for: each is a way of one command, which declares its words."""
