"""Reviews: whoever answers for a folder says of each who can do what there whether they keep it."""
