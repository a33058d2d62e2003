import { QueryClient } from "@tanstack/react-query";
import { afterEach, describe, expect, it, vi } from "vitest";
import { api } from "../api/client";
import { jobsAfter, shownJob, withJob, type Job } from "./jobs";
import { jobsQuery } from "./queries";

const job = (id: number, state: string, kind = "ready"): Job =>
  ({ id, state, kind, done: 0 }) as unknown as Job;
const states = (jobs: readonly Job[] | undefined) => jobs?.map((j) => [j.id, j.state]);

describe("the list of jobs", () => {
  afterEach(() => vi.restoreAllMocks());

  it("takes what was read, but for jobs that are known to be over", () => {
    const known = [job(3, "running"), job(2, "done"), job(1, "failed")];
    const read = [job(4, "pending"), job(3, "done"), job(2, "running"), job(1, "pending")];
    expect(states(jobsAfter(known, read))).toEqual([
      [4, "pending"],
      [3, "done"],
      [2, "done"],
      [1, "failed"],
    ]);
    expect(jobsAfter(undefined, read)).toEqual(read);
  });

  it("shows what somebody asked for before what began by itself, and what runs before what waits", () => {
    const looking = [job(1, "running", "analyse"), job(2, "pending", "analyse")];
    expect(shownJob([...looking, job(4, "pending"), job(3, "pending"), job(5, "done")])?.id).toBe(3);
    expect(shownJob([...looking, job(3, "pending"), job(4, "running", "follow")])?.id).toBe(4);
    expect(shownJob([job(5, "done"), ...looking.reverse()])?.id).toBe(1);
    expect(shownJob([job(5, "failed")])).toBeUndefined();
  });

  it("does not run a job again that ended while the list was being read", async () => {
    const client = new QueryClient();
    let answer: (reply: unknown) => void = () => {};
    vi.spyOn(api, "GET").mockReturnValue(new Promise((done) => (answer = done)) as never);
    const reading = client.fetchQuery(jobsQuery);
    client.setQueryData(jobsQuery.queryKey, (jobs) => withJob(jobs ?? [], job(7, "done")));
    answer({ data: { jobs: [job(7, "running"), job(6, "done")] } });
    await reading;
    expect(states(client.getQueryData(jobsQuery.queryKey))).toEqual([
      [7, "done"],
      [6, "done"],
    ]);
  });
});
