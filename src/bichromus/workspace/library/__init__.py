"""library"""
