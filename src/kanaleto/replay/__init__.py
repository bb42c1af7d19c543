"""The devices of a capture, played back: they answer as they did, with their times, silences and damaged bytes."""
