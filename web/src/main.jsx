import { h, render } from "preact";
import { Page } from "./view.jsx";

const page = JSON.parse(document.getElementById("page-data").textContent);
const start = performance.now();
render(<Page page={page} />, document.getElementById("page"));
document.documentElement.dataset.drawn = String(Math.round(performance.now() - start));
