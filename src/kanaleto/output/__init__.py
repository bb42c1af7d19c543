"""What goes out: maps as tables, JSON and Thing Descriptions. Nothing here draws on a screen."""
