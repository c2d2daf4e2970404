(function () {
  "use strict";
  var book = JSON.parse(document.getElementById("book").textContent);
  var say = book.words;
  var STEP = 60, SLICE = 12, PAUSE = 1500;
  var ID = 0, DATE = 1, FROM = 2, TO = 3, SUBJECT = 4, FOLDER = 5, ATTACHED = 6, NOTES = 7, FILES = 8, TALK = 9, SIZE = 10, TAGS = 11, CC = 12, FAILED = 13, CASE = 14, PLACE = 15;
  var COLUMNS = [["date", DATE], ["from", FROM], ["to", TO], ["subject", SUBJECT], ["case", CASE], ["folder", FOLDER], ["attached", ATTACHED], ["notes", NOTES]]
    .filter(function (column) { return document.getElementById("by-" + column[0]); });
  var hasCases = COLUMNS.length > 7;

  // Messages: rows as they come, what is searched in each, its piece and its place in that. All by one number.
  var rows = [], hay = [], piece = [], texts = [], folded = [];
  var byId = Object.create(null), talks = Object.create(null), waiting = Object.create(null), loaded = Object.create(null);
  var shown = [], room = STEP, turn = 0, orders = Object.create(null), state = {};

  function at(id) { return document.getElementById(id); }

  function make(name, text, classes) {
    var element = document.createElement(name);
    if (text !== undefined && text !== "") { element.textContent = text; }
    if (classes) { element.className = classes; }
    return element;
  }

  function fold(text) {
    text = text.toLowerCase();
    return /^[\x00-\x7f]*$/.test(text) ? text : text.normalize("NFD").replace(/[\u0300-\u036f]/g, "");
  }

  function fill(text, values) {
    return text.replace(/\{(\w+)\}/g, function (_, name) { return values[name]; });
  }

  function number(count) { return count.toLocaleString(book.language); }

  function size(count) {
    if (count < 1024) { return count + " B"; }
    return count < 1048576 ? (count / 1024).toFixed(1) + " KB" : (count / 1048576).toFixed(1) + " MB";
  }

  function day(row) { return row[DATE].slice(0, 16).replace("T", " "); }

  function year(row) { return /^\d{4}/.test(row[DATE]) ? row[DATE].slice(0, 4) : ""; }

  function person(text) {
    var match = /^\s*"?([^"<]*?)"?\s*<.*>\s*$/.exec(text.split(/>, */)[0] + (text.indexOf("<") >= 0 ? ">" : ""));
    return match && match[1] ? match[1] : text;
  }

  function kindOf(name) {
    var dot = name.lastIndexOf(".");
    return dot > 0 && name.length - dot < 7 ? name.slice(dot + 1).toLowerCase() : "";
  }

  // Pieces: script files beside the page, each of which hands over its part.
  window.wexagraph = function (kind, name, part) {
    var number = waiting[name + kind];
    if (kind === "rows") {
      part.forEach(function (row, n) {
        var key = rows.length;
        rows.push(row);
        hay.push(fold([row[FROM], row[TO], row[CC], row[SUBJECT], row[FOLDER], row[TAGS], row[CASE], row[ATTACHED].join("\n")].join("\n")));
        piece.push([name, n]);
        byId[row[ID]] = key;
        (talks[row[TALK]] = talks[row[TALK]] || []).push(key);
      });
    } else {
      texts[name] = part;
      folded[name] = [];
    }
    loaded[name + kind] = true;
    if (number) { number.forEach(function (then) { then(); }); }
    delete waiting[name + kind];
  };

  function load(kind, name, then) {
    if (loaded[name + kind]) { then(); return; }
    if (waiting[name + kind]) { waiting[name + kind].push(then); return; }
    waiting[name + kind] = [then];
    var script = document.createElement("script");
    script.src = book.place + "/" + kind + "-" + name + ".js";
    script.onerror = function () {
      at("count").textContent = fill(say.missing, { file: book.place + "/" + kind + "-" + name + ".js" });
    };
    document.head.appendChild(script);
  }

  function wanted() {
    return book.pieces.filter(function (one) { return !book.large || one[1] === (state.year || book.years[0][0]); });
  }

  // The first piece is shown at once, what follows now and then: to sort for each of many would take long.
  function bringAll(kind, then) {
    var names = wanted().map(function (one) { return one[0]; }), last = -PAUSE, behind = false;
    function show() {
      last = performance.now();
      behind = false;
      if (kind === "rows") { orders = Object.create(null); apply(true); } else if (state.q) { apply(true); }
    }
    (function next() {
      var name = names.filter(function (each) { return !loaded[each + kind]; })[0];
      if (name === undefined) {
        if (behind) { show(); }
        then();
        return;
      }
      load(kind, name, function () {
        behind = true;
        if (performance.now() - last >= PAUSE) { show(); }
        setTimeout(next, 0);
      });
    })();
  }

  // The state of the view stands in the address.
  function readState() {
    state = {};
    location.hash.replace(/^#/, "").split("&").forEach(function (pair) {
      var cut = pair.indexOf("=");
      if (cut > 0) {
        try { state[pair.slice(0, cut)] = decodeURIComponent(pair.slice(cut + 1).replace(/\+/g, " ")); } catch (error) { return; }
      }
    });
    ["q", "year", "folder", "person", "kind"].forEach(function (name) {
      if (at(name) !== document.activeElement || at(name).tagName === "SELECT") { at(name).value = state[name] || ""; }
    });
    if (book.large && !state.year) { at("year").value = book.years[0][0]; }
    at("talks").checked = state.talks === "1";
  }

  function address(changes) {
    var parts = [], names = ["q", "year", "folder", "person", "kind", "sort", "talks", "m"];
    names.forEach(function (name) {
      var value = name in changes ? changes[name] : state[name];
      if (value) { parts.push(name + "=" + encodeURIComponent(value)); }
    });
    return "#" + parts.join("&");
  }

  function go(changes, replace) {
    var next = address(changes);
    if (next === (location.hash || "#")) { return; }
    if (replace) { history.replaceState(null, "", next); changed(); } else { location.hash = next; }
  }

  function words() {
    var list = [], asked = fold(state.q || ""), match, pattern = /"([^"]+)"|(\S+)/g;
    while ((match = pattern.exec(asked))) { list.push((match[1] || match[2]).replace(/"/g, "")); }
    return list.filter(Boolean);
  }

  // What a message has to meet besides words; null where nothing narrows.
  function filter() {
    if (!state.year && !state.folder && !state.person && !state.kind) { return null; }
    var who = fold(state.person || ""), below = (state.folder || "") + "/", kind = state.kind || "";
    return function (key) {
      var row = rows[key];
      if (state.year && (year(row) || "undated") !== state.year) { return false; }
      if (state.folder && row[FOLDER] !== state.folder && row[FOLDER].indexOf(below) !== 0) { return false; }
      if (who && fold(row[FROM]).indexOf(who) < 0 && fold(row[TO]).indexOf(who) < 0 && fold(row[CC]).indexOf(who) < 0) { return false; }
      if (kind === "attached") { return row[ATTACHED].length > 0; }
      if (kind === "notes") { return row[NOTES].length > 0; }
      return !kind || row[ATTACHED].some(function (name) { return "." + kindOf(name) === kind; });
    };
  }

  function textOf(key) {
    var where = piece[key], part = texts[where[0]];
    return part ? part[where[1]] : "";
  }

  function foldedText(key) {
    var where = piece[key], part = folded[where[0]];
    if (!part) { return ""; }
    if (part[where[1]] === undefined) { part[where[1]] = fold(textOf(key)); }
    return part[where[1]];
  }

  function sorting() { return state.sort || (book.placed ? "place" : "-date"); }

  function ordered() {
    var sort = sorting(), name = sort.replace("-", "");
    if (!orders[sort]) {
      var column = COLUMNS.filter(function (one) { return one[0] === name; })[0] || COLUMNS[0];
      var keys = rows.map(function (row) {
        var value = row[column[1]];
        if (name === "place") { return row[PLACE]; }
        return Array.isArray(value) ? String(1000 + value.length) : name === "date" ? Date.parse(value) || 0 : fold(person(value));
      });
      var list = rows.map(function (_, key) { return key; });
      list.sort(function (a, b) {
        return keys[a] < keys[b] ? -1 : keys[a] > keys[b] ? 1 : rows[a][DATE] < rows[b][DATE] ? 1 : -1;
      });
      if (sort[0] === "-") { list.reverse(); }
      orders[sort] = list;
    }
    return orders[sort];
  }

  // What was found in a first walk over the heads of all messages is shown at once; their texts follow in slices, so
  // that a key never waits for them.
  function apply(quietly) {
    var mine = ++turn, asked = words(), passes = filter(), order = ordered(), rest = [], key, n, w;
    if (passes) { order = order.filter(passes); }
    shown = order;
    if (asked.length) {
      shown = [];
      for (n = 0; n < order.length; n++) {
        key = order[n];
        for (w = 0; w < asked.length && hay[key].indexOf(asked[w]) >= 0; w++) { continue; }
        (w === asked.length ? shown : rest).push(key);
      }
    }
    if (!quietly) { room = STEP; }
    draw(rest.length > 0);
    if (!rest.length) { return; }
    var next = 0, more = [];
    function slice() {
      if (mine !== turn) { return; }
      var end = performance.now() + SLICE, text;
      while (next < rest.length && performance.now() < end) {
        key = rest[next++];
        text = foldedText(key);
        if (!text) { continue; }
        for (w = 0; w < asked.length && (text.indexOf(asked[w]) >= 0 || hay[key].indexOf(asked[w]) >= 0); w++) { continue; }
        if (w === asked.length) { more.push(key); }
      }
      if (next < rest.length) { setTimeout(slice, 0); return; }
      if (more.length) {
        var hits = Object.create(null);
        shown.concat(more).forEach(function (each) { hits[each] = true; });
        shown = order.filter(function (each) { return hits[each]; });
      }
      draw(false);
    }
    setTimeout(slice, 0);
  }

  function inTalks(list) {
    var met = Object.create(null), hit = Object.create(null), lines = [];
    list.forEach(function (key) { hit[key] = true; });
    list.forEach(function (key) {
      var talk = rows[key][TALK];
      if (met[talk]) { return; }
      met[talk] = true;
      var members = talks[talk].slice().sort(function (a, b) { return Date.parse(rows[a][DATE]) - Date.parse(rows[b][DATE]); });
      members.forEach(function (one, n) { lines.push([one, n, members.length, hit[one] === true]); });
    });
    return lines;
  }

  function mark(element, text, asked) {
    var plain = fold(text), spots = [], exact = plain.length === text.length;
    if (exact) {
      asked.forEach(function (word) {
        for (var n = plain.indexOf(word); n >= 0 && spots.length < 500; n = plain.indexOf(word, n + word.length)) { spots.push([n, n + word.length]); }
      });
    }
    spots.sort(function (a, b) { return a[0] - b[0] || b[1] - a[1]; });
    var done = 0;
    spots.forEach(function (spot) {
      if (spot[0] < done) { return; }
      element.appendChild(document.createTextNode(text.slice(done, spot[0])));
      element.appendChild(make("mark", text.slice(spot[0], spot[1])));
      done = spot[1];
    });
    element.appendChild(document.createTextNode(text.slice(done)));
    return element;
  }

  function cell(line, label, text, asked, classes) {
    var td = make("td", undefined, classes);
    td.setAttribute("data-label", label);
    td.dir = "auto";
    mark(td, text, asked);
    line.appendChild(td);
    return td;
  }

  function snippet(key, asked) {
    var plain = foldedText(key), text = textOf(key);
    if (!asked.length || !plain || plain.length !== text.length) { return ""; }
    var spots = asked.map(function (word) { return plain.indexOf(word); }).filter(function (n) { return n >= 0; });
    if (!spots.length) { return ""; }
    var from = Math.max(0, spots[0] - 60), to = Math.min(text.length, spots[0] + 100);
    return (from ? "\u2026" : "") + text.slice(from, to).replace(/(^|\n)[> ]+/g, "$1").replace(/\s+/g, " ") + (to < text.length ? "\u2026" : "");
  }

  function line(entry, asked) {
    var key = entry[0], row = rows[key], tr = make("tr");
    if (entry[1] > 0) { tr.className = "answer"; }
    if (entry[3] === false) { tr.className += " other"; }
    if (row[ID] === state.m) { tr.className += " open"; }
    cell(tr, say.date, day(row) || say.undated, [], "date");
    cell(tr, say.from, person(row[FROM]), asked, "people").title = row[FROM];
    cell(tr, say.to, person(row[TO]), asked, "people to").title = row[TO];
    var subject = make("td", undefined, "subject"), link = make("a");
    subject.setAttribute("data-label", say.subject);
    subject.dir = "auto";
    link.href = address({ m: row[ID] });
    link.setAttribute("data-id", row[ID]);
    mark(link, row[SUBJECT] || say.nosubject, asked);
    subject.appendChild(link);
    if (entry[1] === 0 && entry[2] > 1) { subject.appendChild(make("span", " (" + number(entry[2]) + ")", "faint")); }
    var piece = snippet(key, asked);
    if (piece) { subject.appendChild(mark(make("p", undefined, "snippet"), piece, asked)); }
    tr.appendChild(subject);
    if (hasCases) { cell(tr, say["case"], row[CASE], asked, "case"); }
    cell(tr, say.folder, row[FOLDER], asked, "folder");
    cell(tr, say.attached, row[ATTACHED].length ? String(row[ATTACHED].length) : "", [], "count").title = row[ATTACHED].join("\n");
    var notes = cell(tr, say.notes, row[FAILED] ? say.failed : row[NOTES].length ? String(row[NOTES].length) : "", [], "count");
    notes.title = row[NOTES].join("\n");
    return tr;
  }

  function linkOf(id) {
    return Array.prototype.filter.call(document.querySelectorAll("#rows a"), function (link) { return link.getAttribute("data-id") === id; })[0];
  }

  function draw(searching) {
    var asked = words(), body = at("rows"), lines = state.talks === "1" ? inTalks(shown) : shown.map(function (key) { return [key, -1, 1, true]; });
    var part = document.createDocumentFragment(), active = document.activeElement;
    var focused = active && active.closest("#rows") ? active.getAttribute("data-id") : null;
    lines.slice(0, room).forEach(function (entry) { part.appendChild(line(entry, asked)); });
    body.textContent = "";
    body.appendChild(part);
    if (focused !== null) { (linkOf(focused) || at("q")).focus(); }
    at("more").hidden = lines.length <= room;
    var all = wanted().every(function (one) { return loaded[one[0] + "rows"]; });
    var text = fill(shown.length === book.total ? say.count : say.of, { count: number(shown.length), shown: number(shown.length), all: number(book.total) });
    at("count").textContent = all ? text + (searching ? ". " + say.searching + "\u2026" : "") : fill(say.loading, { count: number(rows.length) });
    COLUMNS.forEach(function (column) {
      var sort = sorting(), heading = at("by-" + column[0]);
      heading.setAttribute("aria-sort", sort === column[0] ? "ascending" : sort === "-" + column[0] ? "descending" : "none");
    });
  }

  // A message beside the list.
  function label(href) {
    var name = decodeURIComponent(href.slice(href.lastIndexOf("/") + 1));
    var known = { pdf: "PDF", eml: "EML", html: "HTML", txt: say.text, mbox: "mbox", zip: "ZIP" };
    return [known[kindOf(name)] || name, name];
  }

  function linked(element, text, asked) {
    var done = 0, pattern = /\bhttps?:\/\/[^\s<>"']{3,}/g, match;
    while ((match = pattern.exec(text))) {
      mark(element, text.slice(done, match.index), asked);
      done = match.index + match[0].length;
      var host;
      try { host = new URL(match[0]).hostname; } catch (error) { mark(element, match[0], asked); continue; }
      var link = make("a", match[0]);
      link.href = match[0];
      link.rel = "noreferrer noopener";
      element.appendChild(link);
      element.appendChild(make("span", " [" + host + "]", "host"));
    }
    return mark(element, text.slice(done), asked);
  }

  function open() {
    var pane = at("message"), key = state.m === undefined ? undefined : byId[state.m];
    if (key === undefined) { pane.hidden = true; document.body.classList.remove("reading"); return; }
    var row = rows[key], asked = words();
    pane.textContent = "";
    var close = make("a", say.close, "close"), head = make("h2", row[SUBJECT] || say.nosubject), facts = make("dl");
    close.href = address({ m: "" });
    head.id = "message-subject";
    head.dir = "auto";
    pane.appendChild(close);
    pane.appendChild(head);
    [[say.from, row[FROM]], [say.to, row[TO]], [say.cc, row[CC]], [say.date, row[DATE].replace("T", " ")], [say["case"], row[CASE]], [say.folder, row[FOLDER]],
     [say.attached, row[ATTACHED].join(", ")], [say.tags, row[TAGS]], [say.size, size(row[SIZE])], [say.notes, row[NOTES].join("; ")]].forEach(function (fact) {
      if (!fact[1]) { return; }
      facts.appendChild(make("dt", fact[0]));
      var text = make("dd");
      text.dir = "auto";
      facts.appendChild(mark(text, fact[1], asked));
    });
    pane.appendChild(facts);
    var files = make("ul", undefined, "files");
    row[FILES].forEach(function (href) {
      var item = make("li"), link = make("a", label(href)[0]);
      link.href = href;
      link.title = label(href)[1];
      item.appendChild(link);
      files.appendChild(item);
    });
    if (row[FILES].length) { pane.appendChild(files); }
    var body = make("div", undefined, "text");
    body.dir = "auto";
    pane.appendChild(body);
    load("text", piece[key][0], function () { body.textContent = ""; linked(body, textOf(key), asked); });
    var members = (talks[row[TALK]] || []).slice().sort(function (a, b) { return Date.parse(rows[a][DATE]) - Date.parse(rows[b][DATE]); });
    if (members.length > 1) {
      pane.appendChild(make("h3", say.talk));
      var list = make("ol", undefined, "talk");
      members.forEach(function (one) {
        var item = make("li"), link = make("a", day(rows[one]) + "  " + person(rows[one][FROM]));
        link.href = address({ m: rows[one][ID] });
        if (one === key) { link.setAttribute("aria-current", "true"); }
        item.appendChild(link);
        list.appendChild(item);
      });
      pane.appendChild(list);
    }
    pane.hidden = false;
    document.body.classList.add("reading");
  }

  var last = {};
  function changed() {
    readState();
    if (book.large && state.year !== last.year) { bringAll("rows", bringTexts); }
    var same = ["q", "year", "folder", "person", "kind", "sort", "talks"].every(function (name) { return state[name] === last[name]; });
    if (!same || last.first === undefined) { apply(false); } else { draw(false); }
    var opened = state.m !== last.m;
    open();
    if (opened && last.first !== undefined) {
      if (state.m && !at("message").hidden) { at("message").focus(); at("message").scrollTop = 0; }
      var back = !state.m && last.m && linkOf(last.m);
      if (back) { back.focus(); }
    }
    last = Object.assign({ first: false }, state);
  }

  function bringTexts() { bringAll("text", function () { open(); }); }

  function choices(id, list) {
    list.forEach(function (one) {
      var option = make("option", one[1]);
      option.value = one[0];
      at(id).appendChild(option);
    });
  }

  if (book.large) { at("year").remove(0); }
  choices("year", book.years.map(function (one) { return [one[0], (one[0] === "undated" ? say.undated : one[0]) + " (" + number(one[1]) + ")"]; }));
  choices("folder", book.folders.map(function (one) { return [one[0], one[0] + " (" + number(one[1]) + ")"]; }));
  choices("people", book.people.map(function (one) { return [one, ""]; }));
  choices("kind", book.kinds.map(function (one) { return ["." + one[0], one[0] + " (" + number(one[1]) + ")"]; }));
  ["q", "person"].forEach(function (id) {
    at(id).addEventListener("input", function () { var change = {}; change[id] = at(id).value; go(change, true); });
  });
  ["year", "folder", "kind"].forEach(function (id) {
    at(id).addEventListener("change", function () { var change = {}; change[id] = at(id).value; go(change, false); });
  });
  at("talks").addEventListener("change", function () { go({ talks: at("talks").checked ? "1" : "" }, false); });
  at("clear").addEventListener("click", function () { go({ q: "", year: "", folder: "", person: "", kind: "" }, false); at("q").value = at("person").value = ""; });
  at("search").addEventListener("submit", function (event) { event.preventDefault(); });
  at("more").addEventListener("click", function () { room += STEP; draw(false); });
  COLUMNS.forEach(function (column) {
    at("by-" + column[0]).firstElementChild.addEventListener("click", function () {
      var sort = sorting();
      go({ sort: sort === column[0] ? "-" + column[0] : sort === "-" + column[0] || column[0] !== "date" ? column[0] : "-date" }, false);
    });
  });
  document.addEventListener("keydown", function (event) {
    if (event.key === "Escape" && state.m) { go({ m: "" }, false); return; }
    if (event.key === "/" && !/^(INPUT|SELECT|TEXTAREA)$/.test(document.activeElement.tagName)) { event.preventDefault(); at("q").focus(); return; }
    var step = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
    if (!step || !document.activeElement.closest("#rows")) { return; }
    var links = Array.prototype.slice.call(document.querySelectorAll("#rows .subject > a"));
    var next = links[links.indexOf(document.activeElement) + step];
    if (next) { event.preventDefault(); next.focus(); }
  });
  window.addEventListener("beforeprint", function () { room = 5000; draw(false); });
  window.addEventListener("hashchange", changed);
  at("main").hidden = false;
  changed();
  bringAll("rows", function () { open(); bringTexts(); });
})();
