"""The scratch reading on the screen: a row of fields, and the words below it."""
