"""How much later a render is, and how its clock drifts."""
