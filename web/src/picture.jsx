// A chart beside the grid: the lines that are shown, by the value of the column that was last ordered by.

import { h } from "preact";
import { useEffect, useRef } from "preact/hooks";
import {
  BarController, BarElement, CategoryScale, Chart, Legend, LinearScale, LineController, LineElement, PointElement, Tooltip,
} from "chart.js";

Chart.register(BarController, BarElement, CategoryScale, LinearScale, LineController, LineElement, PointElement, Legend, Tooltip);

const MOST = 40;
const MOST_SERIES = 8;

/** What is drawn: the lines without open lines below them, by the members of the columns. */
export function marks(page, table, state, column) {
  const { grid } = table;
  const lines = table.visible(state).filter((at) => {
    const row = grid.rows[at];
    const open = table.children.get(at).length > 0 && !state.closed.has(table.name(at));
    return row.k !== "total" && !row.total && !open && row.p.length > 0;
  });
  const value = Math.max(grid.columns[column]?.v ?? 0, 0);
  const same = table.visibleColumns(state).filter((at) => Math.max(grid.columns[at].v, 0) === value && !grid.columns[at].total);
  const wanted = same.length > 1 ? same : [column];
  return { lines, columns: wanted.length ? wanted : [column], value };
}

/** A colour for each series: its member's, or the next that is free. */
function distinct(paints, colours, dark) {
  const taken = [];
  paints.forEach((pair, at) => {
    const own = pair ? pair[dark ? 1 : 0] : null;
    const free = [own, colours.series[at % colours.series.length], ...colours.series].find((each) => each && !taken.includes(each));
    taken.push(free ?? own ?? colours.series[0]);
  });
  return taken;
}

export function Picture({ page, table, state, column, dark }) {
  const canvas = useRef(null);
  const { lines, columns, value } = marks(page, table, state, column);
  const colours = page.colours[dark ? "dark" : "light"];
  const over = page.rowTime ? false : page.columnTime && columns.length > 2;
  const many = lines.length > MOST || (over && lines.length > MOST_SERIES * 3);
  const shown = lines.slice(0, over ? MOST_SERIES * 3 : MOST);
  const text = (at, place) => table.cell(at, place, state).text ?? "";
  const number = (at, place) => table.cell(at, place, state).number ?? null;
  const columnName = (at) => table.grid.columns[at].labels.filter((label) => label.k !== "value").map((label) => label.t).join(" / ")
    || page.values[value].heading;
  const rowName = (at) => table.grid.rows[at].t;
  const along = over ? columns : shown;
  const series = over ? shown.slice(0, MOST_SERIES) : columns.slice(0, MOST_SERIES);
  const cell = (one, place) => (over ? [one, place] : [place, one]);
  const paints = distinct(series.map((one) => (over ? table.grid.rows[one] : table.grid.columns[one]).paint), colours, dark);
  const signature = JSON.stringify([along, series, value, dark, [...state.closed], Object.keys(state.chosen), state.prepared,
    series.map((one) => along.map((place) => number(...cell(one, place))))]);
  useEffect(() => {
    const line = page.rowTime || over;
    const chart = new Chart(canvas.current, {
      type: line ? "line" : "bar",
      data: {
        labels: along.map(over ? columnName : rowName),
        datasets: series.map((one, at) => ({
          label: over ? rowName(one) : columnName(one),
          data: along.map((place) => number(...cell(one, place))),
          backgroundColor: paints[at],
          borderColor: paints[at],
          pointStyle: ["circle", "rect", "triangle", "rectRot", "star", "crossRot", "cross", "dash"][at % 8],
          borderWidth: line ? 2 : 0,
        })),
      },
      options: {
        animation: false, maintainAspectRatio: false, indexAxis: line ? "x" : "y", color: colours.text,
        font: { family: page.font },
        scales: {
          [line ? "x" : "y"]: { ticks: { color: colours.text, autoSkip: line }, grid: { display: false } },
          [line ? "y" : "x"]: { ticks: { color: colours.text, callback: tick }, grid: { color: colours.line } },
        },
        plugins: {
          legend: { display: series.length > 1, labels: { color: colours.text, usePointStyle: line, boxWidth: 9, boxHeight: 9 } },
          tooltip: { callbacks: { label: (item) => {
            const one = series[item.datasetIndex];
            return `${item.dataset.label}: ${text(...cell(one, along[item.dataIndex]))}`;
          } } },
        },
      },
    });
    function tick(given) {
      return Math.abs(given) >= 10000 ? new Intl.NumberFormat(page.locale, { notation: "compact" }).format(given)
        : new Intl.NumberFormat(page.locale).format(given);
    }
    return () => chart.destroy();
  }, [signature]);
  const high = page.rowTime || over ? 300 : Math.max(180, along.length * Math.max(18, 12 * series.length) + 70);
  return (
    <figure class="picture" aria-label={`Chart of ${page.values[value].heading}`}>
      <figcaption>{page.values[value].heading}{many ? `: the first ${shown.length} of ${lines.length} lines` : ""}</figcaption>
      <div style={{ height: `${high}px` }}><canvas ref={canvas} role="img"
        aria-label={`${page.values[value].heading} by ${over ? "column" : table.grid.heading}`} /></div>
    </figure>
  );
}
