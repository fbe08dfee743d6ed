"""The guardian: reads, judges and stops every channel on which packs hang, without a database and
without a page.
"""
