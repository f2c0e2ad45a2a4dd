"""What all routes share: requests, errors, files, schemas."""
