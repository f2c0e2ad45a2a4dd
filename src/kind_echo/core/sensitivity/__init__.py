"""What a check would notice: faults of growing size are planted into renders that are approved, and judged."""
