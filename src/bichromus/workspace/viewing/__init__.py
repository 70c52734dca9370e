"""viewing"""
