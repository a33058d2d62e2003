import { queryOptions, useMutation, useQuery, useQueryClient, type QueryClient } from "@tanstack/react-query";
import { api, Refusal, taken, type Schema } from "../api/client";
import { useUi } from "../app/store";
import { jobsAfter, type Job } from "./jobs";
import { asRecipe, type Recipe } from "./recipe";

export const shotsQuery = queryOptions({
  queryKey: ["shots"],
  queryFn: async () => (await taken(api.GET("/api/shots"))).shots,
});

export const recipeQuery = (shot: number) =>
  queryOptions({
    queryKey: ["shot", shot, "recipe"],
    queryFn: async () =>
      withRecipe(await taken(api.GET("/api/shots/{shot}/recipe", { params: { path: { shot } } }))),
  });

export interface Revision extends Omit<Schema["Revision"], "recipe"> {
  recipe: Recipe;
}
type Written = Omit<Schema["Revision"], "recipe"> & { recipe: unknown };
const withRecipe = (r: Written): Revision => ({ ...r, recipe: asRecipe(r.recipe) });

export const stateQuery = (shot: number) =>
  queryOptions({
    queryKey: ["shot", shot, "state"],
    queryFn: () => taken(api.GET("/api/shots/{shot}/state", { params: { path: { shot } } })),
  });

export const statsQuery = (shot: number) =>
  queryOptions({
    queryKey: ["shot", shot, "stats"],
    queryFn: async () =>
      (await taken(api.GET("/api/shots/{shot}/stats", { params: { path: { shot } } }))).stats ?? null,
  });

export const proofQuery = (shot: number) =>
  queryOptions({
    queryKey: ["shot", shot, "proof"],
    queryFn: async () =>
      (await taken(api.GET("/api/shots/{shot}/proof", { params: { path: { shot } } }))).proof ?? null,
  });

export const curvesQuery = (shot: number, drape: string) =>
  queryOptions({
    queryKey: ["shot", shot, "belonging", drape],
    queryFn: async () =>
      (
        await taken(
          api.GET("/api/shots/{shot}/drapes/{drape}/belonging", { params: { path: { shot, drape } } }),
        )
      ).curves ?? null,
  });

export const historyQuery = (shot: number) =>
  queryOptions({
    queryKey: ["shot", shot, "history"],
    queryFn: async () =>
      (await taken(api.GET("/api/shots/{shot}/history", { params: { path: { shot } } }))).entries,
  });

export const deliveriesQuery = (shot: number) =>
  queryOptions({
    queryKey: ["shot", shot, "deliveries"],
    queryFn: () => taken(api.GET("/api/shots/{shot}/deliveries", { params: { path: { shot } } })),
  });

export const trackQuery = (shot: number, drape: string) =>
  queryOptions({
    queryKey: ["shot", shot, "track", drape],
    queryFn: async () => {
      const { track } = await taken(
        api.GET("/api/shots/{shot}/drapes/{drape}/track", { params: { path: { shot, drape } } }),
      );
      return track ? { ...track, rowOf: new Map(track.frames.map((f, i) => [f, i])) } : null;
    },
  });
export type Track = NonNullable<Awaited<ReturnType<NonNullable<ReturnType<typeof trackQuery>["queryFn"]>>>>;

/** The faces on a frame, part by part. */
export const partsQuery = (shot: number, frame: number) =>
  queryOptions({
    queryKey: ["parts", shot, frame],
    queryFn: async () => {
      const path = { shot, frame };
      return (await taken(api.GET("/api/shots/{shot}/frames/{frame}/faces", { params: { path } }))).faces;
    },
    staleTime: Infinity,
  });

export const vectorsQuery = (shot: number) =>
  queryOptions({
    queryKey: ["shot", shot, "vectors"],
    queryFn: async () =>
      (await taken(api.GET("/api/shots/{shot}/vectors", { params: { path: { shot } } }))).kept,
  });

const numbersQuery = (part: "positions" | "errors", shot: number, drape: string, token: string | undefined) =>
  queryOptions({
    queryKey: ["shot", shot, part, drape, token],
    enabled: token !== undefined,
    queryFn: async () => {
      const reply = await fetch(
        `/api/shots/${shot}/drapes/${encodeURIComponent(drape)}/${part}?token=${token}`,
      );
      if (!reply.ok) throw new Refusal("The mesh cannot be had.", "unfollowed");
      return new Float32Array(await reply.arrayBuffer());
    },
  });

/** Mesh vertices on every followed frame, (T, V, 2), rows as in the track. */
export const positionsQuery = (shot: number, drape: string, token: string | undefined) =>
  numbersQuery("positions", shot, drape, token);

/** How far each vertex is expected to be off, (T, V) in px. */
export const errorsQuery = (shot: number, drape: string, token: string | undefined) =>
  numbersQuery("errors", shot, drape, token);

/** How far another drape takes the same surface elsewhere, frame by frame. */
export const apartQuery = (shot: number, drape: string, other: string, token: string) =>
  queryOptions({
    queryKey: ["shot", shot, "track", drape, "apart", other, token],
    queryFn: () => {
      const params = { path: { shot, drape, other } };
      return taken(api.GET("/api/shots/{shot}/drapes/{drape}/apart/{other}", { params }));
    },
    retry: false,
  });

/** Where the motion of every pixel takes a drape on a frame, while one scrubs. */
export const draftQuery = (shot: number, drape: string, frame: number, revision: number) =>
  queryOptions({
    queryKey: ["shot", shot, "draft", drape, revision, frame],
    queryFn: async () => {
      const params = { path: { shot, drape, frame } };
      const drafted = await taken(api.GET("/api/shots/{shot}/drapes/{drape}/draft/{frame}", { params }));
      return { ...drafted, positions: new Float32Array(drafted.positions) };
    },
    retry: false,
  });

export const paramsQuery = queryOptions({
  queryKey: ["params"],
  staleTime: Infinity,
  queryFn: () => taken(api.GET("/api/params")),
});

export const shelfQuery = queryOptions({
  queryKey: ["artwork"],
  queryFn: async () => (await taken(api.GET("/api/artwork"))).pieces,
});

export const presetsQuery = queryOptions({
  queryKey: ["presets"],
  queryFn: async () => (await taken(api.GET("/api/presets"))).presets,
});

export const facesQuery = (shot: number) =>
  queryOptions({
    queryKey: ["shot", shot, "faces"],
    queryFn: async () =>
      (await taken(api.GET("/api/shots/{shot}/faces", { params: { path: { shot } } }))).faces ?? null,
  });

export const inboxQuery = queryOptions({ queryKey: ["inbox"], queryFn: () => taken(api.GET("/api/inbox")) });
export const cacheQuery = queryOptions({
  queryKey: ["cache"],
  queryFn: async () => (await taken(api.GET("/api/cache"))).kinds,
});
export const jobsQuery = queryOptions({
  queryKey: ["jobs"],
  queryFn: async ({ client }) => {
    const { jobs } = await taken(api.GET("/api/jobs"));
    return jobsAfter(client.getQueryData<Job[]>(["jobs"]), jobs);
  },
});

/** What is shown once the server has answered an edit: its recipe, unless a later edit is already seen above it. */
export function afterReply(shown: Revision | undefined, reply: Revision, laterEdits: boolean): Revision {
  return shown && laterEdits ? { ...reply, recipe: shown.recipe } : reply;
}

/** What an edit of the recipe makes stale. */
export function recipeChanged(
  client: QueryClient,
  shot: number,
  revision?: Written,
  laterEdits = false,
): void {
  if (revision)
    client.setQueryData(recipeQuery(shot).queryKey, (shown: Revision | undefined) =>
      afterReply(shown, withRecipe(revision), laterEdits),
    );
  for (const part of ["state", "track", "proof", "history", "belonging"])
    void client.invalidateQueries({ queryKey: ["shot", shot, part] });
}

export function useFault(): (fault: unknown) => void {
  const set = useUi((s) => s.set);
  return (fault) => set({ fault: fault instanceof Error ? fault.message : String(fault) });
}

export function useRecipe(shot: number) {
  return useQuery(recipeQuery(shot));
}

/** Edits that are on their way, per shot: work must start from the newest state, not from the one before it. */
const onTheWay = new Map<number, Promise<unknown>>();
const editsWaiting = new Map<number, number>();

/** One edit: a new revision, made on the one that is seen; what follows from it is said by `then`. */
export function useEdit(shot: number) {
  const client = useQueryClient();
  const onError = useFault();
  const mutation = useMutation({
    mutationFn: async ({ recipe, label }: { recipe: Recipe; label: string }) => {
      const base = client.getQueryData(recipeQuery(shot).queryKey)?.revision;
      return taken(
        api.PUT("/api/shots/{shot}/recipe", {
          params: { path: { shot } },
          body: { recipe: recipe as unknown as Record<string, unknown>, label, base },
        }),
      );
    },
    onSuccess: (revision) => recipeChanged(client, shot, revision, (editsWaiting.get(shot) ?? 0) > 1),
    onError: (fault) => {
      onError(fault);
      void client.invalidateQueries({ queryKey: recipeQuery(shot).queryKey });
    },
  });
  return async (recipe: Recipe, label: string): Promise<boolean> => {
    // A changed thing is seen at once, and a refusal brings the server's state back; a new thing waits until the
    // server knows it.
    client.setQueryData(recipeQuery(shot).queryKey, (old) =>
      old &&
      old.recipe.drapes.length === recipe.drapes.length &&
      old.recipe.veils.length === recipe.veils.length
        ? { ...old, recipe }
        : old,
    );
    // One after the other: each is made on the revision that the one before it has become.
    const before = onTheWay.get(shot) ?? Promise.resolve();
    const counted = (by: number) => editsWaiting.set(shot, (editsWaiting.get(shot) ?? 0) + by);
    counted(1);
    const sent = before.then(() => mutation.mutateAsync({ recipe, label })).finally(() => counted(-1));
    onTheWay.set(
      shot,
      sent.catch(() => {}),
    );
    return sent.then(
      () => true,
      () => false,
    );
  };
}

/** Undo, redo, or go to a revision. */
export function useMove(shot: number) {
  const client = useQueryClient();
  const onError = useFault();
  return async (to: "undo" | "redo" | { revision: number }): Promise<void> => {
    const params = { path: { shot } };
    const send = () =>
      taken(
        to === "undo"
          ? api.POST("/api/shots/{shot}/undo", { params })
          : to === "redo"
            ? api.POST("/api/shots/{shot}/redo", { params })
            : api.POST("/api/shots/{shot}/goto", { params, body: to }),
      );
    try {
      // In its turn among the edits: it must undo the last of them, not the one before it.
      const sent = (onTheWay.get(shot) ?? Promise.resolve()).then(send);
      onTheWay.set(
        shot,
        sent.catch(() => {}),
      );
      const revision = await sent;
      recipeChanged(client, shot, revision);
      useUi.getState().say(`Now at: ${revision.label}`);
    } catch (fault) {
      onError(fault);
    }
  };
}

type Wanted = Schema["JobWanted"];

export function useStartJob(shot: number) {
  const client = useQueryClient();
  const onError = useFault();
  return async (wanted: Partial<Wanted> & Pick<Wanted, "kind">): Promise<number | null> => {
    await onTheWay.get(shot);
    try {
      const { id } = await taken(
        api.POST("/api/shots/{shot}/jobs", { params: { path: { shot } }, body: wanted as Wanted }),
      );
      void client.invalidateQueries({ queryKey: ["jobs"] });
      return id;
    } catch (fault) {
      onError(fault);
      return null;
    }
  };
}
