import { useQuery } from "@tanstack/react-query";
import type { Schema } from "../../api/client";
import { useUi } from "../../app/store";
import { Button, Choice, Section, TextField } from "../../ui/controls";
import { scaledOutline } from "../../geometry/outlineEdits";
import { ParamPanel } from "../ParamPanel";
import { paramsQuery, trackQuery, useEdit, useStartJob } from "../queries";
import {
  drapeOutline,
  referenceOf,
  renameDrape,
  withDrape,
  withoutDrape,
  type Drape,
  type Outline,
  type Recipe,
} from "../recipe";
import { LostAdvice } from "./LostAdvice";
import { HeadSection } from "./HeadSection";
import { PointsSection } from "./PointsSection";
import { OutlineList } from "./OutlineList";
import { References } from "./References";
import { followedSpan } from "./model";
import { withOutline } from "./outlines";
import { FollowSection, NeedsALook } from "./FollowSection";
import { TackList } from "./TackList";
import { Distrusted, PlainData } from "./TrackEdits";
import { VerticesSection } from "./VerticesSection";
import { VectorsSection } from "./VectorsSection";
import { Checks } from "./Checks";

export function DrapeCard({ shot, recipe, drape }: { shot: Schema["Shot"]; recipe: Recipe; drape: Drape }) {
  const { data: params } = useQuery(paramsQuery);
  const { data: track } = useQuery(trackQuery(shot.id, drape.name));
  const edit = useEdit(shot.id);
  const start = useStartJob(shot.id);
  const ui = useUi();
  const reference = referenceOf(drape);
  const outline = drapeOutline(drape);
  const change = (part: Partial<Drape>, label: string) =>
    edit(
      withDrape(recipe, drape.name, (d) => ({ ...d, ...part })),
      label,
    );
  const replaced = (changed: Drape, label: string) =>
    edit(
      withDrape(recipe, drape.name, () => changed),
      label,
    );
  const setOutline = (o: Outline, label: string) =>
    void replaced(withOutline(drape, reference, outline, o), label);
  const rename = (to: string) => {
    void edit(renameDrape(recipe, drape.name, to), `Rename ${drape.name}`).then(
      (ok) => ok && ui.set({ selection: { kind: "drape", name: to } }),
    );
  };
  const remove = () => {
    void edit(withoutDrape(recipe, drape.name), `Remove ${drape.name}`).then(
      (ok) => ok && ui.set({ selection: { kind: "shot" }, stage: "shot" }),
    );
  };
  const kind = drape.follower?.kind ?? "mesh";
  return (
    <>
      <FollowSection
        shot={shot}
        recipe={recipe}
        drape={drape}
        track={track}
        onLock={(locked) => change({ locked }, locked ? `Lock ${drape.name}` : `Unlock ${drape.name}`)}
      />
      <Section title="How the surface moves">
        <Choice
          label="Follower"
          value={kind}
          options={Object.entries(params?.followers ?? { mesh: { label: "Mesh" } }).map(([value, f]) => ({
            value,
            text: f.label,
          }))}
          onChange={(value) => void change({ follower: { kind: value } }, "Follower")}
        />
        <p className="mt-1 text-[12px] text-dim">{params?.followers[kind]?.help}</p>
      </Section>
      {track && <NeedsALook track={track} />}
      {track && <LostAdvice track={track} />}
      {track && (
        <Checks
          shot={shot.id}
          recipe={recipe}
          drape={drape}
          track={track}
          onMeasure={() => void start({ kind: "check", drape: drape.name })}
        />
      )}
      <TackList
        drape={drape}
        followed={Boolean(track)}
        onChange={(tacks, label) =>
          void change({ tacks }, label).then(
            (ok) => ok && recipe.veils.some((v) => v.drape === drape.name) && void start({ kind: "ready" }),
          )
        }
      />
      <Distrusted
        shot={shot}
        drape={drape}
        onChange={(spans) => void change(spans, "Frames that are not believed")}
      />
      {kind === "face" && track && <HeadSection shot={shot.id} drape={drape.name} />}
      {kind !== "plane" && kind !== "points" && (
        <VerticesSection
          drape={drape}
          count={track?.vertices}
          onChange={(vertices, label) => void change({ vertices }, label)}
        />
      )}
      {kind === "points" && (
        <PointsSection
          shot={shot.id}
          drape={drape}
          track={track}
          onChange={(options, label) => void change({ follower: { kind, options } }, label)}
        />
      )}
      {kind === "vectors" && (
        <VectorsSection
          shot={shot}
          drape={drape.name}
          quality={String(drape.follower?.options?.quality ?? "good")}
          followed={Boolean(track)}
        />
      )}
      <ParamPanel
        params={params?.followers[kind]?.params ?? []}
        given={drape.follower?.options ?? {}}
        skip={["placed", "off", "again", "denser"]}
        onChange={(options, label) => void change({ follower: { kind, options } }, label)}
      />
      <Section title="Drape">
        <TextField label="Name" value={drape.name} onCommit={rename} />
        <References
          shot={shot.id}
          drape={drape}
          track={track}
          onChange={(changed, label, follow) =>
            void replaced(changed, label).then(
              (ok) =>
                ok &&
                follow &&
                track &&
                void start({ kind: "follow", drape: drape.name, ...followedSpan(track, shot) }),
            )
          }
        />
        <div className="mt-1 flex gap-1.5">
          <Button onClick={() => setOutline(scaledOutline(outline, 1.1), "Outline larger")}>Larger</Button>
          <Button onClick={() => setOutline(scaledOutline(outline, 1 / 1.1), "Outline smaller")}>
            Smaller
          </Button>
          <Button onClick={remove}>Remove drape</Button>
        </div>
      </Section>
      <OutlineList outline={outline} onChange={setOutline} />
      <PlainData
        shot={shot.id}
        drape={drape.name}
        followed={Boolean(track)}
        onTacks={(tacks) => void change({ tacks: [...(drape.tacks ?? []), ...tacks] }, "Points brought in")}
      />
    </>
  );
}
