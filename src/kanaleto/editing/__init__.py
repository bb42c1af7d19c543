"""The one door to the open site: edit, undo, save, take over; what can be edited; the user's folders."""
