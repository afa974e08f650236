"""Files by which a desktop knows Wendascope: menu entry, icon, file type, thumbnails, and its description in software
catalogues. What stands between @ and @ is filled in where they are installed.
"""

DESKTOP_ID = "org.wendascope.Wendascope"
"""By which a desktop knows the program: the name of each of these files."""
