"""Responses: spectrum combination and time histories on the reduced model, direct integration, loads at rest."""
