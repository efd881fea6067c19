"""Instance data of YANG modules."""
