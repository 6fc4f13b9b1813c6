"""What was done: sign-ins and changes as systems write them down, in the same words, and folded."""
