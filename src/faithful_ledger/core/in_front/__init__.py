"""What is in front of a place and decides where it is: texts and bytes behind their length, records behind their
number.
"""
