"""project"""
