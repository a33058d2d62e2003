import { useQuery } from "@tanstack/react-query";
import { Button } from "../../ui/controls";
import { isOver } from "../jobs";
import { jobsQuery, useStartJob } from "../queries";

/** Measures sharpness, motion and exposure; while that is done already, how far it is. */
export function MeasureShot({ shot, children }: { shot: number; children: React.ReactNode }) {
  const { data: jobs } = useQuery(jobsQuery);
  const start = useStartJob(shot);
  const job = jobs?.find((j) => j.kind === "analyse" && j.shot === shot && !isOver(j));
  if (!job) return <Button onClick={() => void start({ kind: "analyse" })}>{children}</Button>;
  return (
    <p className="text-dim">
      {job.state === "running" ? (
        <>
          Being measured: <span className="num">{job.done}</span> of <span className="num">{job.total}</span>{" "}
          frames
        </>
      ) : (
        "Waits to be measured, after other shots"
      )}
    </p>
  );
}
