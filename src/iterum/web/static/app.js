/* Keys, digit fields and the clock. Every page works without it; nothing here decides anything. */
(function () {
  "use strict";
  var root = document.documentElement;
  var csrf = document.querySelector("meta[name=csrf-token]").content;
  document.addEventListener("htmx:configRequest", function (event) { event.detail.headers["X-CSRFToken"] = csrf; });

  /* The server's clock, which may run faster than this one. */
  var begun = Date.now(), speed = Number(root.dataset.speed || 1), serverMs = Number(root.dataset.now) * 1000;
  function nowMs() { return serverMs + (Date.now() - begun) * speed; }
  function tick() {
    var clock = document.querySelector("[data-clock]");
    if (clock) { clock.textContent = new Date(nowMs()).toTimeString().slice(0, 5); }
    var heat = document.querySelector("[data-minutes-to]");
    if (heat) { heat.firstChild.textContent = Math.max(0, Math.ceil((heat.dataset.minutesTo * 1000 - nowMs()) / 60000)) + " "; }
  }
  setInterval(tick, speed > 1 ? 1000 : 15000);
  /* Countdowns never depend on the link. */
  function spell(seconds) { var whole = Math.abs(Math.round(seconds)); return Math.floor(whole / 60) + ":" + ("0" + whole % 60).slice(-2); }
  function count() {
    document.querySelectorAll("[data-until]").forEach(function (item) {
      var left = item.dataset.until - nowMs() / 1000;
      item.textContent = left >= 0 ? spell(left) : spell(left) + " late";
      item.parentNode.classList.toggle("check-late", left < 0);
    });
    document.querySelectorAll("[data-count]").forEach(function (item) {
      var left = item.dataset.count - (Date.now() - begun) / 1000 * speed;
      if (left > 0) { item.textContent = spell(left); } else if (Number(item.dataset.count) > 0) { window.location.reload(); }
    });
  }
  count();
  setInterval(count, 1000);

  /* ---- what is wrong sounds and shows, also behind other tabs ---- */
  var title = document.title, sound = null, lastBeep = 0;
  function beep(urgent) {
    try {
      sound = sound || new (window.AudioContext || window.webkitAudioContext)();
      var tone = sound.createOscillator(), volume = sound.createGain();
      tone.frequency.value = urgent ? 880 : 520;
      volume.gain.setValueAtTime(0.25, sound.currentTime);
      volume.gain.exponentialRampToValueAtTime(0.001, sound.currentTime + (urgent ? 0.8 : 0.4));
      tone.connect(volume);
      volume.connect(sound.destination);
      tone.start();
      tone.stop(sound.currentTime + 0.9);
      if (navigator.vibrate && navigator.userActivation && navigator.userActivation.hasBeenActive) { navigator.vibrate(urgent ? [300, 100, 300] : 200); }
    } catch (error) { /* no sound here: the sign and the title still show */ }
  }
  function alarm() {
    var sign = document.getElementById("alarms");
    if (!sign) { return; }
    var worst = sign.dataset.worst, unseen = Number(sign.dataset.unseen);
    document.title = worst ? (worst === "stop" ? "STOP · " : "Look · ") + title : title;
    root.dataset.alarm = worst;
    if (worst && unseen > 0 && Date.now() - lastBeep > (worst === "stop" ? 4000 : 20000)) { lastBeep = Date.now(); beep(worst === "stop"); }
  }
  document.addEventListener("htmx:afterSwap", function () { alarm(); count(); });
  document.addEventListener("htmx:sendError", function () { root.dataset.link = "lost"; });
  document.addEventListener("htmx:afterOnLoad", function () { delete root.dataset.link; });

  /* ---- Something's wrong answers even when the server does not ---- */
  var wrong = document.getElementById("wrong"), offline = document.getElementById("wrong-offline");
  if (wrong && offline) {
    wrong.addEventListener("click", function (event) {
      event.preventDefault();
      var gone = new AbortController();
      setTimeout(function () { gone.abort(); }, 1500);
      fetch(wrong.href, { signal: gone.signal }).then(function () { window.location.href = wrong.href; }, function () { offline.showModal(); });
    });
  }

  /* ---- digit fields: three digits fill a cell and move on ---- */
  var form = document.querySelector("[data-measure]");
  var fields = form ? Array.prototype.slice.call(form.querySelectorAll("[data-digits]")) : [];
  var phone = window.matchMedia("(max-width: 760px)");

  /* A cell has three digits, the point after the first; a total up to four, the point before the last two. */
  function most(field) { return Number(field.dataset.digits) || 3; }
  function full(field) { return digitsOf(field).length >= 3; }
  function digitsOf(field) { return field.value.replace(/\D/g, "").slice(0, most(field)); }
  function show(field, digits) {
    var head = most(field) > 3 ? Math.max(digits.length - 2, 0) : 1;
    field.value = digits.length > 1 && head ? digits.slice(0, head) + "." + digits.slice(head) : digits;
  }
  function at() { var index = fields.indexOf(document.activeElement); return index < 0 ? lastField : index; }
  var lastField = 0;

  function preview() {
    if (fields.every(full)) { window.htmx.trigger(form, "volts"); }
  }
  function forget() { /* a change after a question asks again */
    var confirmed = form.querySelector("[name=confirmed]");
    if (confirmed) { confirmed.remove(); }
  }
  function go(index) {
    if (index < 0 || index >= fields.length) { return; }
    lastField = index;
    fields[index].focus();
    fields[index].select();
  }
  function put(digit) {
    var index = at(), field = fields[index];
    var whole = field.selectionStart === 0 && field.selectionEnd === field.value.length;
    var digits = whole || digitsOf(field).length === most(field) ? digit : digitsOf(field) + digit;
    forget();
    show(field, digits);
    field.setSelectionRange(field.value.length, field.value.length);
    if (digits.length === most(field)) { go(index + 1); }
    preview();
  }
  function rub() {
    var index = at(), field = fields[index];
    forget();
    if (field.value === "" && index > 0) { go(index - 1); field = fields[index - 1]; }
    show(field, digitsOf(field).slice(0, -1));
  }
  function act(key) {
    if (key === "rub") { rub(); } else if (key === "back") { go(at() - 1); } else { put(key); }
  }
  if (form) {
    fields.forEach(function (field, index) {
      field.addEventListener("focus", function () { lastField = index; if (!phone.matches) { field.select(); } });
      field.addEventListener("keydown", function (event) {
        if (event.ctrlKey || event.metaKey || event.altKey) { return; }
        if (/^[0-9]$/.test(event.key)) { event.preventDefault(); put(event.key); }
        else if (event.key === "Backspace") { event.preventDefault(); rub(); }
        else if (event.key === "-") { event.preventDefault(); go(index - 1); }
        else if (event.key === "." || event.key === ",") { event.preventDefault(); }
      });
      field.addEventListener("input", function () { show(field, digitsOf(field)); preview(); });
    });
    form.querySelectorAll("[data-key]").forEach(function (button) {
      button.addEventListener("click", function () { act(button.dataset.key); });
    });
    /* On a phone the page's own pad is the keyboard. */
    var setPad = function () { fields.forEach(function (field) { field.inputMode = phone.matches ? "none" : "decimal"; field.readOnly = phone.matches; }); };
    phone.addEventListener("change", setPad);
    setPad();
    var done = document.querySelector("[data-done]");
    if (done) { done.focus(); } else if (fields.length) { var first = fields.findIndex(function (field) { return digitsOf(field).length < 3; }); go(first < 0 ? 0 : first); }
  }

  /* ---- single keys; none fires while typing text ---- */
  function typing(target) {
    return target.matches("input:not([data-digits]):not([type=checkbox]), textarea, select, [contenteditable]");
  }
  function press(id) { var element = document.getElementById(id); if (element) { element.click(); return true; } return false; }
  function step(by) {
    var links = Array.prototype.slice.call(document.querySelectorAll("[data-step]"));
    var here = links.findIndex(function (link) { return link.hasAttribute("aria-current"); });
    var next = links[here + by];
    if (next) { next.click(); }
  }
  function rows() { return Array.prototype.slice.call(document.querySelectorAll("tr[data-pack][tabindex]")); }
  function onRow(key) {
    var row = document.activeElement.closest && document.activeElement.closest("tr[data-pack]");
    if (!row) { return false; }
    var name = key === "Delete" ? "out" : /^[1-9]$/.test(key) ? String.fromCharCode(64 + Number(key)) : null;
    var button = name ? row.querySelector("[data-act='" + name + "']") : key === "b" ? row.querySelector("form input[value=back] ~ button") : null;
    if (button) { button.click(); return true; }
    return false;
  }
  function along(by) {
    var all = rows();
    var row = document.activeElement.closest && document.activeElement.closest("tr[data-pack]");
    if (!all.length || (!row && by < 0)) { return false; }
    var details = all[0].closest("details");
    if (details) { details.open = true; }
    (all[all.indexOf(row) + by] || row || all[0]).focus();
    return true;
  }
  function jump() {
    var tag = window.prompt("Jump to which pack?");
    if (tag) { window.location.href = "/measure?pack=" + encodeURIComponent(tag.trim()); }
  }
  /* ---- batches of the day strip: picked by arrows, dragged to another time or channel ---- */
  var bars = Array.prototype.slice.call(document.querySelectorAll(".strip-picture [data-batch]"));
  function pickBatch(by) {
    var seen = bars.filter(function (bar) { return bar.getClientRects().length && bar.closest("svg").getClientRects()[0].width; });
    if (!seen.length) { return false; }
    var at = seen.findIndex(function (bar) { return bar.hasAttribute("aria-current"); });
    var next = seen[at < 0 ? (by > 0 ? 0 : seen.length - 1) : Math.min(Math.max(at + by, 0), seen.length - 1)];
    window.location.href = next.getAttribute("href");
    return true;
  }
  function otherLane() {
    var select = document.getElementById("move-channel");
    if (!select) { return false; }
    select.selectedIndex = (select.selectedIndex + 1) % select.options.length;
    return press("move-lane");
  }
  bars.forEach(function (bar) {
    var start = null;
    bar.addEventListener("dragstart", function (event) { event.preventDefault(); });
    bar.addEventListener("pointerdown", function (event) { start = { x: event.clientX, y: event.clientY, moved: false }; });
    bar.addEventListener("pointermove", function (event) {
      if (!start) { return; }
      if (Math.abs(event.clientX - start.x) + Math.abs(event.clientY - start.y) > 6) {
        if (!start.moved) { start.moved = true; bar.setPointerCapture(event.pointerId); bar.classList.add("bar-dragged"); }
        var svg = bar.ownerSVGElement, scale = svg.viewBox.baseVal.width / svg.getBoundingClientRect().width;
        bar.setAttribute("transform", "translate(" + (event.clientX - start.x) * scale + " " + (event.clientY - start.y) * scale + ")");
      }
    });
    bar.addEventListener("pointercancel", function () { start = null; bar.removeAttribute("transform"); });
    bar.addEventListener("pointerup", function (event) {
      if (!start || !start.moved) { start = null; return; }
      var svg = bar.ownerSVGElement, scale = svg.viewBox.baseVal.width / svg.getBoundingClientRect().width;
      var minutes = (event.clientX - start.x) * scale / svg.dataset.pxAMin;
      var lanes = Array.prototype.slice.call(svg.querySelectorAll("[data-lane]"));
      var lane = lanes.find(function (item) { var box = item.getBoundingClientRect(); return event.clientY >= box.top && event.clientY <= box.bottom; });
      start = null;
      bar.addEventListener("click", function (click) { click.preventDefault(); }, { once: true });
      dropBatch(bar.dataset.batch, minutes, lane ? lane.dataset.lane : "");
    });
  });
  function dropBatch(number, minutes, channel) {
    var form = document.createElement("form");
    form.method = "post";
    form.action = "/plan/batch";
    var values = { csrf_token: csrf, batch: number, by_min: Math.round(minutes) };
    if (channel) { values.channel = channel; }
    Object.keys(values).forEach(function (name) {
      var input = document.createElement("input");
      input.type = "hidden"; input.name = name; input.value = values[name];
      form.appendChild(input);
    });
    document.body.appendChild(form);
    form.submit();
  }

  document.addEventListener("keydown", function (event) {
    if (root.dataset.keys !== "on" || event.ctrlKey || event.metaKey || event.altKey || event.defaultPrevented) { return; }
    if (typing(event.target)) { return; }
    var key = event.key, inDigits = event.target.matches("[data-digits]"), done = false;
    if (key === "!") { done = press("wrong"); }
    else if (key === "?") { done = press("keys-link"); }
    else if (key === "Enter" && !event.target.closest("a, button, summary, form")) { done = press("primary") || press("next"); }
    else if (key === "ArrowDown") { done = along(1); }
    else if (key === "ArrowUp") { done = along(-1); }
    else if (key === "ArrowLeft") { done = press("page-left") || pickBatch(-1); }
    else if (key === "ArrowRight") { done = press("page-right") || pickBatch(1); }
    else if (key === "[") { done = press("move-back"); }
    else if (key === "]") { done = press("move-on"); }
    else if (key === "{") { done = press("move-back-5"); }
    else if (key === "}") { done = press("move-on-5"); }
    else if (key === "l" || key === "L") { done = otherLane(); }
    else if (key === "k" || key === "K") { done = press("keep-batch"); }
    else if (key === "n" || key === "N") { done = press("night"); }
    else if (key === "j" || key === "J") { done = true; jump(); }
    else if (form && (key === "s" || key === "S")) { done = press("skip-pack"); }
    else if (form && (key === "t" || key === "T")) { var warmth = document.getElementById("temperature"); warmth.focus(); warmth.select(); done = true; }
    else if (form && (key === "x" || key === "X")) { done = press("looks-wrong"); }
    else if (form && (key === "r" || key === "R")) { done = press("from-checker"); }
    else if (key === " " && event.shiftKey) { done = press("stop"); }
    else if (key === " " && !event.target.closest("a, button, summary, input")) { done = press("record-check"); }
    else if (!inDigits && key === ",") { step(-1); done = true; }
    else if (!inDigits && key === ".") { step(1); done = true; }
    else { done = onRow(key); }
    if (done) { event.preventDefault(); }
  });
  var stop = document.getElementById("stop");
  if (stop) { stop.addEventListener("click", function (event) { if (!window.confirm("Stop this channel?")) { event.preventDefault(); } }); }
  var picked = document.querySelector(".row-picked");
  if (picked) { picked.focus({ preventScroll: true }); }
})();
