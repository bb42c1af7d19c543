"""Pictures of the demo from memory: no port, no socket, no process, and a clock that a picture sets itself, so that a
picture changes only where what it shows has changed."""
