"""The view Bridge: routes, who asks, and the latest request."""
