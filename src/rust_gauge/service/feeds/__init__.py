"""Sources of events: their settings, their formats, and the processes that read them."""
