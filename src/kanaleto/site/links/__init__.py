"""How a line is reached: one file a kind of link. What every link answers stands in `link`."""
