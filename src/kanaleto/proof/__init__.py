"""The checkout sheet: what is to be proved, what was seen, what is left; what is really there."""
