"""Inkhorn: groundwater flow, contaminants and particle paths in layered aquifers.

Inside, every number is in metres, days and grams.
"""
