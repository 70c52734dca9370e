"""subs"""
