"""Regimens: chains of treatments that are saved, checked and run without a person."""
