"""The view Bench: devices that stand in, and what masters do with them."""
