"""What is done by itself: when it is due, in order, once; and who is told."""
