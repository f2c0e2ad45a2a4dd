"""A render against its reference: the residual and all that is read off it."""
