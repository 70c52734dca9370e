"""channels"""
