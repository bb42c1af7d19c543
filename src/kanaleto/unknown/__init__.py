"""The unknown line as a whole: whose turn it is to be asked, what is concluded of it, and the site that comes of it."""
