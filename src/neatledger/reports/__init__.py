"""Reports: the rows, totals and labels that every face shows; pure."""
