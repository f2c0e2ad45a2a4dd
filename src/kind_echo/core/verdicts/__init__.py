"""From readings and limits to a verdict, as facts: which limits broke, by which readings, against what."""
