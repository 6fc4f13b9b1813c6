"""Real systems that judge our answers."""
