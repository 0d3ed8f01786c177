"""What people and programs get to see: words, records and pictures."""
