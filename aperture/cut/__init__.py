"""Shots in the order of the film."""
