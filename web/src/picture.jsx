// A chart beside the grid: the lines that are shown, by the value of the column that was last ordered by.

import { h } from "preact";
import { useEffect, useRef } from "preact/hooks";
import {
  BarController, BarElement, CategoryScale, Chart, Legend, LinearScale, LineController, LineElement, PointElement, Tooltip,
} from "chart.js";
import { ticks } from "./format.js";

Chart.register(BarController, BarElement, CategoryScale, LinearScale, LineController, LineElement, PointElement, Legend, Tooltip);

const MOST = 40;
const MOST_SERIES = 12;
// The marks and dashes that a picture of the grid has, in the same order.
const POINTS = [["circle", 0], ["rect", 0], ["rectRot", 0], ["triangle", 0], ["triangle", 180], ["cross", 0], ["crossRot", 0], ["star", 0]];
const DASHES = [[], [6, 3], [2, 2], [8, 2, 2, 2]];

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

/** What a chart leaves out, in words; empty where it draws everything. */
export function leftOut(series, shownSeries, along, shownAlong) {
  const parts = [];
  if (shownSeries < series) parts.push(`${shownSeries} of ${series} series`);
  if (shownAlong < along) parts.push(`${shownAlong} of ${along} lines`);
  return parts.length ? `shows the first ${parts.join(" and ")}` : "";
}

export function Picture({ page, table, state, column, dark }) {
  const canvas = useRef(null);
  const { lines, columns, value } = marks(page, table, state, column);
  const colours = page.colours[dark ? "dark" : "light"];
  const over = page.rowTime ? false : page.columnTime && columns.length > 2;
  const text = (at, place) => table.cell(at, place, state).text ?? "";
  const number = (at, place) => table.cell(at, place, state).number ?? null;
  const columnName = (at) => table.grid.columns[at].labels.filter((label) => label.k !== "value").map((label) => label.t).join(" / ")
    || page.values[value].heading;
  const rowName = (at) => table.grid.rows[at].t;
  const [every, rest] = over ? [lines, columns] : [columns, lines];
  const series = every.slice(0, MOST_SERIES);
  const along = rest.slice(0, over ? rest.length : MOST);
  const several = page.values.filter((each) => each.shape !== null).length > 1;
  const missing = [leftOut(every.length, series.length, rest.length, along.length), several ? "follows the column that orders the grid" : ""]
    .filter(Boolean).join("; ");
  const cell = (one, place) => (over ? [one, place] : [place, one]);
  const own = (one, at) => {
    const { mark } = (over ? table.grid.rows : table.grid.columns)[one];
    return series.length > 1 && mark ? mark : { paint: page.colours.light.series.map((light, place) => [light, page.colours.dark.series[place]])[0], place: at };
  };
  const numbers = series.map((one) => along.map((place) => number(...cell(one, place))));
  const signature = JSON.stringify([along, series, value, dark, page.values[value].heading, numbers]);
  const line = page.rowTime || over;
  useEffect(() => {
    const { shape } = page.values[value];
    const chart = new Chart(canvas.current, {
      type: line ? "line" : "bar",
      data: {
        labels: along.map(over ? columnName : rowName),
        datasets: series.map((one, at) => {
          const { paint, place } = own(one, at);
          const colour = paint[dark ? 1 : 0];
          // One of the same colour as an earlier one has another mark, or another dash.
          const turn = Math.floor(place / POINTS.length);
          const [pointStyle, rotation] = POINTS[(place + turn) % POINTS.length];
          return {
            label: over ? rowName(one) : columnName(one), data: numbers[at], backgroundColor: colour, borderColor: colour,
            pointStyle, rotation, pointRadius: 4, borderDash: line ? DASHES[turn % DASHES.length] : [],
            borderWidth: line ? 2 : 0, maxBarThickness: 34,
          };
        }),
      },
      options: {
        animation: false, maintainAspectRatio: false, indexAxis: line ? "x" : "y", color: colours.text,
        font: { family: page.font },
        scales: {
          [line ? "x" : "y"]: {
            ticks: { color: colours.text, autoSkip: false, maxRotation: 0, callback: line ? named : undefined }, grid: { display: false },
          },
          [line ? "y" : "x"]: {
            title: { display: true, text: page.values[value].heading, color: colours.text },
            ticks: { color: colours.text, callback: tick }, grid: { color: colours.line },
          },
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
    // Every so-and-so many-th period, as people count them: each third month, not each fifth.
    function named(_, at) {
      const names = along.map(over ? columnName : rowName);
      const room = Math.max(1, Math.floor((canvas.current.clientWidth - 60) / (Math.max(...names.map((name) => name.length)) * 7 + 12)));
      const least = Math.ceil(names.length / room);
      const step = page.steps[over ? 1 : 0].find((each) => each >= least) ?? least;
      return at % step === 0 ? names[at] : "";
    }
    // In the unit and currency of the heading, as in the grid.
    function tick(given, at, all) {
      return shape === null ? new Intl.NumberFormat(page.locale).format(given) : ticks(all.map((each) => each.value), shape)[at];
    }
    return () => chart.destroy();
  }, [signature]);
  const least = line ? 260 : Math.max(180, along.length * Math.max(18, 12 * series.length) + 70);
  return (
    <figure class="picture" aria-label={`Chart of ${page.values[value].heading}`}>
      <figcaption>{page.values[value].heading}{missing && <small> {missing}</small>}</figcaption>
      <div class="drawn" style={{ minHeight: `${least}px` }}><canvas ref={canvas} role="img"
        aria-label={`${page.values[value].heading} by ${over ? "column" : table.grid.heading}`} /></div>
    </figure>
  );
}
