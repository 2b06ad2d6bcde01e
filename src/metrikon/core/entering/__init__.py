"""Ways in: scripts of ours by which records are typed into programs that have only a screen. Nothing here touches a screen."""
