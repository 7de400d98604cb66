"""Measures: each labels journeys with small integers, and figures tally those labels."""
