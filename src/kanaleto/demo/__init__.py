"""The demo: Alder Lock, a made-up canal lock. Its site and maps with what moves them, and the process that
plays its devices."""
