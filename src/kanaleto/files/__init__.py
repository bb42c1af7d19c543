"""The site file and the map file: text to model and back, every fault with its line; written whole; watched."""
