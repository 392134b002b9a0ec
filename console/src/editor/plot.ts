// A small plot of how runs were spread.
import uPlot from "uplot";

/** Draws `values`, one for each run, below `host`; returns how to end that. */
export function drawRuns(host: HTMLElement, milliseconds: number[], memory: number[]): () => void {
  const colour = (name: string) => getComputedStyle(host).getPropertyValue(name).trim();
  const axis = { stroke: colour("--dimmed"), grid: { stroke: colour("--limit"), width: 1 }, ticks: { show: false } };
  const plot = new uPlot(
    {
      width: Math.max(280, host.clientWidth),
      height: 160,
      scales: { x: { time: false } },
      cursor: { drag: { x: false, y: false } },
      series: [
        { label: "Run" },
        { label: "Time, ms", stroke: colour("--teal"), points: { show: true, size: 5 }, paths: () => null },
        {
          label: "Memory, MiB",
          stroke: colour("--notice"),
          points: { show: true, size: 5 },
          paths: () => null,
          scale: "memory",
        },
      ],
      axes: [axis, { ...axis, size: 44 }, { ...axis, scale: "memory", side: 1, grid: { show: false }, size: 44 }],
    },
    [milliseconds.map((_, i) => i + 1), milliseconds, memory],
    host,
  );
  return () => plot.destroy();
}
