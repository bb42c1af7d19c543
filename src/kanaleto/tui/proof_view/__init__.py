"""The view Proof."""
