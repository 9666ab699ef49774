"use strict";
(function () {
  var root = document.documentElement;
  root.classList.add("js");
  var byId = function (id) { return document.getElementById(id); };

  // The theme: as the system has it, or as chosen; remembered where that is possible.
  var themes = ["system", "light", "dark"];
  var button = byId("theme");
  var theme = "system";
  var remember = function (value) { try { localStorage.setItem("mivask-theme", value); } catch (refused) { /* not remembered */ } };
  var show = function (value) {
    theme = themes.indexOf(value) < 0 ? "system" : value;
    if (theme === "system") { root.removeAttribute("data-theme"); } else { root.setAttribute("data-theme", theme); }
    button.textContent = "Theme: " + theme;
  };
  try { show(localStorage.getItem("mivask-theme") || "system"); } catch (refused) { show("system"); }
  button.addEventListener("click", function () {
    show(themes[(themes.indexOf(theme) + 1) % themes.length]);
    remember(theme);
  });

  // The filter of the matrix; it sends nothing anywhere.
  byId("filter").addEventListener("submit", function (event) { event.preventDefault(); });
  var search = byId("search"), actor = byId("actor"), outcome = byId("outcome"), count = byId("count");
  var groups = Array.prototype.slice.call(document.querySelectorAll("#matrix tbody"));
  var filter = function () {
    var words = search.value.toLowerCase().split(/\s+/).filter(Boolean);
    var seen = 0, all = 0;
    groups.forEach(function (group) {
      var name = group.getAttribute("data-actor"), shown = 0;
      group.querySelectorAll("tr[data-path]").forEach(function (row) {
        var text = (name + " " + row.getAttribute("data-path")).toLowerCase();
        var fits = words.every(function (word) { return text.indexOf(word) >= 0; }) &&
          (!actor.value || actor.value === name) &&
          (!outcome.value || row.getAttribute("data-outcomes").split(" ").indexOf(outcome.value) >= 0);
        row.hidden = !fits;
        all += 1;
        shown += fits ? 1 : 0;
      });
      group.hidden = shown === 0;
      seen += shown;
    });
    count.textContent = seen === all ? all + " paths" : seen + " of " + all + " paths";
  };
  [search, actor, outcome].forEach(function (control) { control.addEventListener("input", filter); });
  filter();

  // A slash leads to the search, Escape empties it.
  document.addEventListener("keydown", function (event) {
    var typing = /^(INPUT|SELECT|TEXTAREA)$/.test(event.target.tagName);
    if (event.key === "/" && !typing && !event.ctrlKey && !event.metaKey) { event.preventDefault(); search.focus(); }
    if (event.key === "Escape" && event.target === search) { search.value = ""; filter(); }
  });

  // A link to a walk opens it; all are open on paper.
  var open = function () {
    var target = location.hash && byId(location.hash.slice(1));
    if (target && target.tagName === "DETAILS") { target.open = true; target.scrollIntoView(); }
  };
  window.addEventListener("hashchange", open);
  open();
  window.addEventListener("beforeprint", function () {
    document.querySelectorAll("details").forEach(function (one) { one.open = true; });
  });
})();
