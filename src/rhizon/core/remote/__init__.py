"""Rented servers: what a push has to do (``push_plan``). Pure: values in, values out."""
