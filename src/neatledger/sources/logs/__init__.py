"""What systems write down of what was done: SMB servers, directories, web servers; in files that are rotated."""
