import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { useUi } from "../app/store";
import { isOver, withJob, type Job } from "./jobs";
import { jobsQuery, recipeChanged } from "./queries";

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
      if (!isOver(job) || job.shot === null) return;
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
