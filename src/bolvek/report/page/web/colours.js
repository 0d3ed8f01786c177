/* Colours of what was measured: orange on the side that falls short, blue on the other. */

const fromHex = (hex) => [1, 3, 5].map((k) => parseInt(hex.slice(k, k + 2), 16) / 255);
const css = (rgb) => `rgb(${rgb.map((c) => Math.round(255 * c)).join(" ")})`;

class Ramp {
  constructor(look) {
    this.steps = look.steps;
    this.colours = look.colours.map(fromHex);
    this.none = look.plain;
  }

  /** The colour of a value: its share of the limit, or the limit's share of it where much falls short. */
  at(value, limit, worse) {
    if (Number.isNaN(value)) return this.none;
    const share = worse === "low" ? value / limit : limit / Math.max(value, 1e-9 * limit);
    const last = this.steps.length - 1;
    if (share >= this.steps[last]) return this.colours[last];
    const k = Math.max(this.steps.findIndex((s) => share < s) - 1, 0);
    const t = clamp((share - this.steps[k]) / (this.steps[k + 1] - this.steps[k]), 0, 1);
    return this.colours[k].map((c, i) => c + t * (this.colours[k + 1][i] - c));
  }
}

/** How many faces have a value in each of `count` equal steps from the lowest to the highest drawn. */
function histogram(values, top, count = 48) {
  const bins = new Float64Array(count);
  for (const v of values) if (v <= top * 1.0001) bins[Math.min(Math.floor((v / top) * count), count - 1)]++;
  return bins;
}

/** Bars in the colours of the view, and a line at the limit. */
function drawHistogram(canvas, field, limit, ramp) {
  const draw = canvas.getContext("2d");
  const { width, height } = canvas;
  const top = field.top;
  const bins = histogram(field.values, top);
  const most = Math.max(...bins, 1);
  draw.clearRect(0, 0, width, height);
  bins.forEach((n, k) => {
    draw.fillStyle = css(ramp.at(((k + 0.5) / bins.length) * top, limit, field.worse));
    const tall = (n / most) ** 0.5 * (height - 4);
    draw.fillRect((k * width) / bins.length, height - tall, width / bins.length - 1, tall);
  });
  draw.fillStyle = getComputedStyle(canvas).color;
  draw.fillRect((limit / top) * width - 1, 0, 2, height);
}

const shown = (value, unitName) =>
  `${Math.abs(value) >= 100 ? value.toFixed(1) : Math.abs(value) >= 1 ? value.toFixed(2) : value.toFixed(3)} ${unitName}`;
