"""Deals: list, board, one deal; customers; due today."""
