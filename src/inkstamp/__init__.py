"""Ink Stamp: publicly trusted certificates for hosted web sites, from request to renewal."""

__version__ = "0.1.0"
