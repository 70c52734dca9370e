"""blend"""
