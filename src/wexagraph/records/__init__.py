"""Standing orders: what an office has said once, and what was done of it."""
