"""Made-up characters: skeletons of many habits with the true map, and files with smooth skins."""
