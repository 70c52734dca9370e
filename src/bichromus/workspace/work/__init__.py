"""work"""
