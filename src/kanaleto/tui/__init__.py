"""The full-screen application: one folder a view, shared widgets beside them. It draws; what it shows is computed in
the core."""
