"""demo"""
