/** The list of jobs, which is told of by two ways: it is read, and each change arrives as an event. */
import type { Schema } from "../api/client";

export type Job = Schema["Job"];
const OVER = ["done", "failed", "cancelled"];
export const isOver = (job: Job): boolean => OVER.includes(job.state);

/** Work that begins by itself when a clip is brought in; nobody waits for it. */
const isBackground = (job: Job): boolean => job.kind === "analyse";

/** Of the jobs that are not over, the one to show: what somebody asked for, then what runs, then the oldest. */
export function shownJob(jobs: readonly Job[]): Job | undefined {
  const rank = (j: Job) => (isBackground(j) ? 2 : 0) + (j.state === "running" ? 0 : 1);
  return jobs.filter((j) => !isOver(j)).sort((a, b) => rank(a) - rank(b) || a.id - b.id)[0];
}

/** Jobs with one of them put in its place, newest first. */
export function withJob(jobs: readonly Job[], job: Job): Job[] {
  const others = jobs.filter((j) => j.id !== job.id);
  return [...others, job].sort((a, b) => b.id - a.id).slice(0, 30);
}

/** Jobs as they were read, after what is known already: an event that overtook the reading is the newer. */
export function jobsAfter(known: readonly Job[] | undefined, read: readonly Job[]): Job[] {
  const over = new Map((known ?? []).filter(isOver).map((j) => [j.id, j]));
  return read.map((j) => over.get(j.id) ?? j);
}
