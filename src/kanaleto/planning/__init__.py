"""Which requests fetch the points of a site: blocks, their cost, what was learned, the ruler. Pure, no clock."""
