// Before first paint, so that nothing flashes.
var t = localStorage.getItem("theme") || "system";
if (t === "system") t = matchMedia("(prefers-color-scheme:dark)").matches ? "dark" : "light";
document.documentElement.dataset.theme = t;
