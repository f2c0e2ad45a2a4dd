"""The kinds of signals, a module each: to add one, add a module with a subclass of `SignalRequest`."""
