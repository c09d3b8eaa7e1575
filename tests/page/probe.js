/* Put into a copy of a page that is looked at in a frame: finds what runs over, what cannot be read,
 * and which sections there are, and tells its parent. */
"use strict";
(function () {
	function channel(c) {
		c /= 255;
		return c <= 0.04045 ? c / 12.92 : Math.pow((c + 0.055) / 1.055, 2.4);
	}
	function luminance(c) {
		return 0.2126 * channel(c[0]) + 0.7152 * channel(c[1]) + 0.0722 * channel(c[2]);
	}
	function parse(text) {
		const n = text.match(/[\d.]+/g).map(Number);
		return n.length < 4 ? n.concat(1) : n;
	}
	/* Of the nearest element that is not seen through. */
	function paper(element) {
		for (let e = element; e; e = e.parentElement) {
			const c = parse(getComputedStyle(e).backgroundColor);
			if (c[3] > 0)
				return c;
		}
		return [255, 255, 255, 1];
	}
	function name(element) {
		const section = element.closest("section");
		return (section ? "#" + section.id + " " : "") + element.tagName.toLowerCase() +
			(element.className ? "." + element.className : "");
	}
	function contrastFaults() {
		const found = new Set();
		const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
		while (walker.nextNode()) {
			const e = walker.currentNode.parentElement;
			if (!walker.currentNode.data.trim() || e.tagName === "SCRIPT" ||
				e.getClientRects().length === 0)
				continue;
			const style = getComputedStyle(e);
			const a = luminance(parse(style.color));
			const b = luminance(paper(e));
			const ratio = (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05);
			const size = parseFloat(style.fontSize);
			const large = size >= 24 || (size >= 18.66 && Number(style.fontWeight) >= 700);
			if (ratio < (large ? 3 : 4.5))
				found.add(name(e) + " " + ratio.toFixed(2));
		}
		return [...found];
	}
	function overflows() {
		const width = document.documentElement.clientWidth;
		const found = new Set();
		if (document.documentElement.scrollWidth > width)
			found.add("the page is " + document.documentElement.scrollWidth + " px wide");
		for (const e of document.body.querySelectorAll("*")) {
			const box = e.getBoundingClientRect();
			if (box.width > 0 && box.right > width + 0.5)
				found.add(name(e) + " ends at " + box.right.toFixed(0));
			else if (e.scrollWidth > e.clientWidth + 1 && e.clientWidth > 0 &&
				getComputedStyle(e).display !== "inline" && !e.classList.contains("parts"))
				found.add(name(e) + " holds more than it shows");
		}
		return [...found];
	}
	window.addEventListener("load", function () {
		parent.postMessage({
			width: document.documentElement.clientWidth,
			dark: matchMedia("(prefers-color-scheme: dark)").matches,
			sections: [...document.querySelectorAll("section")].map((s) => s.id),
			empty: [...document.querySelectorAll("section")].filter((s) =>
				s.textContent.trim() === s.querySelector("h2").textContent).map((s) => s.id),
			broken: [...document.images].filter((i) => !i.naturalWidth).length,
			scripts: document.scripts.length - 1,
			fetches: ["src", "href", "srcset"].flatMap((name) =>
				[...document.querySelectorAll("[" + name + "]")].filter((e) => e.localName !== "a")
					.map((e) => e.getAttribute(name)))
				.filter((what) => what !== "probe.js" && !what.startsWith("data:"))
				// A page leads to others beside it, and nowhere else.
				.concat([...document.querySelectorAll("a")].map((e) => e.getAttribute("href") || "")
					.filter((where) => !/^[\w.%-]+\.html$/.test(where))),
			handlers: [...document.querySelectorAll("*")].filter((e) =>
				[...e.attributes].some((a) => a.name.startsWith("on"))).length,
			contrast: contrastFaults(),
			overflow: overflows(),
		}, "*");
	});
})();
