"""The sample office: the invented Pellowmere Veterinary Practice, and its systems."""
