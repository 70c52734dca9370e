"""layers"""
