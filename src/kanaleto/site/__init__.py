"""What the technician knows: sites, lines, devices, points; LINK text; counting; the site file and the map file."""
