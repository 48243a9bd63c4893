document.documentElement.className += " old-menu";
