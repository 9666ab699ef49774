// Uses the page as its reader would, and writes down what was seen, for the test to look at.
(function () {
  var seen = { errors: [] };
  window.addEventListener("error", function (event) { seen.errors.push(String(event.message)); });
  document.addEventListener("securitypolicyviolation", function (event) { seen.errors.push("blocked: " + event.blockedURI); });
  var byId = function (id) { return document.getElementById(id); };
  var count = function () { return byId("count").textContent; };
  var rows = function () {
    return Array.prototype.filter.call(document.querySelectorAll("#matrix tr[data-path]"), function (row) { return row.offsetParent !== null; }).length;
  };
  var set = function (id, value) { byId(id).value = value; byId(id).dispatchEvent(new Event("input", { bubbles: true })); };
  var press = function (target, key) { target.dispatchEvent(new KeyboardEvent("keydown", { key: key, bubbles: true, cancelable: true })); };
  window.addEventListener("load", function () {
    seen.all = [rows(), count()];
    press(document.body, "/");
    seen.focused = document.activeElement.id;
    set("search", "PRESS calib");
    seen.searched = [rows(), count()];
    press(byId("search"), "Escape");
    seen.emptied = [rows(), byId("search").value];
    set("actor", "gauge");
    seen.actor = rows();
    set("outcome", "denied");
    seen.denied = rows();
    set("actor", "");
    set("outcome", "depends");
    seen.depends = [rows(), count()];
    set("outcome", "");
    var ground = function () { return getComputedStyle(document.body).backgroundColor; };
    seen.themes = [[byId("theme").textContent, ground()]];
    for (var turn = 0; turn < 3; turn += 1) {
      byId("theme").click();
      seen.themes.push([byId("theme").textContent, ground()]);
    }
    seen.wide = document.documentElement.scrollWidth - window.innerWidth;
    seen.elements = { scripts: document.scripts.length, images: document.images.length, frames: window.frames.length };
    seen.resources = performance.getEntriesByType("resource").map(function (one) { return one.name; });
    seen.loaded = performance.getEntriesByType("navigation")[0].domContentLoadedEventEnd;
    var link = document.querySelector("#matrix a");
    var done = function () {
      var walk = link && document.querySelector(link.getAttribute("href"));
      seen.opened = !!walk && walk.open;
      var result = document.createElement("pre");
      result.id = "seen";
      result.textContent = JSON.stringify(seen);
      document.body.appendChild(result);
    };
    if (link) { document.querySelectorAll("details").forEach(function (one) { one.open = false; }); link.click(); }
    setTimeout(done, 50);
  });
})();
