"""Which requests (plan), when (schedule), what came of it (health), the last block of each request (board)."""
