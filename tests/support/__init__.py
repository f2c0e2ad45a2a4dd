"""What tests and benchmarks share: real material, planted causes."""
