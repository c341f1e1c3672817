"""The directories in which cases run: made, filled, looked at and removed.

Programs have had their hands on them, so everything goes by descriptor and follows no link; nothing
outside of the directory that was made is ever touched.
"""
