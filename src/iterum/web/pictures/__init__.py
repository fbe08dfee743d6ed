"""Geometry of the pictures: numbers in, marks out; Jinja draws them. No interface code, no colours."""
