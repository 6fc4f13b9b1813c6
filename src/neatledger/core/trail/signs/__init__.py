"""What looks wrong in the records; a family of signs a file."""
