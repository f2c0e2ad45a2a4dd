"""From a cell to a kept render, by a worker here or by a render machine."""
