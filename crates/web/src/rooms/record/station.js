// The station page: section and strips, nothing else.
import { Strips } from "../../components/strips/strips.js";

new Strips(document.querySelector("[data-strips]"));
