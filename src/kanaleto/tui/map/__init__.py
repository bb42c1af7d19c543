"""The view Map: a device's registers as a ruler, a point from its words to its value, and other readings of the same
words."""
