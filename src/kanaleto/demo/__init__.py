"""The demo: Alder Lock, a made-up canal lock. Its site and maps, its physics, and the process that plays its
devices."""
