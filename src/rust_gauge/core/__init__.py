"""Pure computation: standards and arithmetic. No socket, clock, database or screen; time is an argument."""
