import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import type { Schema } from "../api/client";
import { useUi } from "../app/store";
import { jobsQuery, recipeChanged } from "./queries";

type Job = Schema["Job"];
const OVER = ["done", "failed", "cancelled"];

/** Jobs with one of them put in its place, newest first. */
export function withJob(jobs: readonly Job[], job: Job): Job[] {
  const others = jobs.filter((j) => j.id !== job.id);
  return [...others, job].sort((a, b) => b.id - a.id).slice(0, 30);
}

/** Keeps the list of jobs live, and refreshes what a finished job has made. One event stream a tab. */
export function useEvents(): void {
  const client = useQueryClient();
  useEffect(() => {
    const source = new EventSource("/api/events");
    source.addEventListener("job", (event) => {
      const job = JSON.parse((event as MessageEvent<string>).data) as Job;
      client.setQueryData(jobsQuery.queryKey, (jobs) => withJob(jobs ?? [], job));
      if (job.kind === "deliver" && job.done === 0)
        void client.invalidateQueries({ queryKey: ["shot", job.shot, "deliveries"] });
      if (!OVER.includes(job.state) || job.shot === null) return;
      recipeChanged(client, job.shot);
      for (const part of ["stats", "deliveries", "faces", "vectors"])
        void client.invalidateQueries({ queryKey: ["shot", job.shot, part] });
      const { say, set } = useUi.getState();
      if (job.state === "failed") set({ fault: `${job.title}: ${job.error}` });
      else if (job.kind !== "ready" || job.state !== "cancelled") say(`${job.title}: ${job.state}`);
    });
    return () => source.close();
  }, [client]);
}
