"""The rules by which readings and limits become a verdict, and what renders share."""
