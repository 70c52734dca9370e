"""planning"""
