import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { Effect, ReferencesOfBuild } from "../../api/client";
import { useCan } from "../../api/me";
import { Button, Sentence, Word } from "../../ui/controls";
import { count } from "../../ui/numbers";
import { Empty, Failed, Loading, Stale } from "../../ui/states";
import { Table } from "../../ui/Table";
import { reportFiles, TakeAway } from "../../ui/TakeAway";
import { ArchivedMark, useShown } from "../upkeep/Archived";
import { ThingMenu } from "../upkeep/ThingMenu";
import { ApproveBuild } from "./ApproveBuild";
import { ExpectedOfSetting } from "./ExpectedOfSetting";
import { NewBuild } from "./NewBuild";
import { NewEffect } from "./NewEffect";
import { NewSetting } from "./NewSetting";
import { effectsQuery, referencesOfEffectQuery } from "./queries";
import { between, valuesText, valueText } from "./values";

/** A plan of every parameter at both ends makes a hundred of them. */
const MOST_SETTINGS = 12;

type Build = Effect["builds"][number];

export function EffectsPage() {
  const effects = useQuery(effectsQuery);
  const [search, setSearch] = useSearchParams();
  const mayAdd = useCan("keep");
  if (effects.isPending) return <Loading what="the effects" />;
  if (!effects.data) return <Failed error={effects.error} onRetry={() => effects.refetch()} />;
  const all = effects.data.effects;
  const asked = all.find((one) => one.name === search.get("effect"));
  const chosen = asked ?? all.find((one) => !one.archived) ?? all[0];
  if (!chosen)
    return (
      <Empty title="No effect is under test yet.">
        On{" "}
        <Link to="/hosts" className="text-text underline">
          Hosts
        </Link>
        , each running machine lists the effects that it has: press Test it beside one of them.
        {mayAdd && <NewEffect onAdded={(effect) => setSearch({ effect })} />}
      </Empty>
    );
  return (
    <div className="overflow-auto pb-8">
      <Stale error={effects.error} />
      <div className="px-5 pt-3 pb-3">
        <Sentence>
          Builds, parameters and settings of{" "}
          <Word
            name="Effect"
            value={chosen.name}
            choices={all.map((one) => ({
              value: one.name,
              label: one.name,
              detail: one.archived ? "archived" : one.description,
            }))}
            onChoose={(effect) => setSearch({ effect })}
          />
          . <ThingMenu kind="effect" id={chosen.id} name={chosen.name} archived={chosen.archived} />
        </Sentence>
        <p className="text-quiet">
          {chosen.description}
          {chosen.archived && <ArchivedMark />}
        </p>
      </div>
      <EffectView key={chosen.id} effect={chosen} />
      {mayAdd && <NewEffect onAdded={(effect) => setSearch({ effect })} />}
    </div>
  );
}

function EffectView({ effect }: { effect: Effect }) {
  const mayWork = useCan("work");
  const mayApprove = useCan("keep");
  const references = useQuery(referencesOfEffectQuery(effect.id));
  const [approved, setApproved] = useState<Build>();
  const builds = useShown(effect.builds);
  const settings = useShown(effect.settings);
  const [every, setEvery] = useState(false);
  const listed = every ? settings.shown : settings.shown.slice(0, MOST_SETTINGS);
  return (
    <>
      <Stale error={references.error} />
      <Table title="Builds, newest first">
        {[...builds.shown].reverse().map((build, place, all) => (
          <tr key={build.id}>
            <td className="w-48 font-semibold">
              {build.version}
              {build.archived && <ArchivedMark />}
            </td>
            <td>
              {build.note}
              <Artefacts build={build} />
            </td>
            <td className="w-56 text-right">
              <OfReferences
                effect={effect.name}
                references={references.data?.builds.find((one) => one.build_id === build.id)}
              />
            </td>
            <td className="w-40 text-right">
              <TakeAway
                what={`of ${build.version}`}
                label="Release report…"
                files={reportFiles("Every plan on it", `/api/reports/builds/${build.id}`)}
              />
            </td>
            <td className="w-14 py-1! text-right">
              <ThingMenu
                kind="build"
                id={build.id}
                name={build.version}
                archived={build.archived}
                {...(mayApprove
                  ? { more: [{ label: "Approve its renders…", onSelect: () => setApproved(build) }] }
                  : {})}
                build={{ note: build.note, above: place > 0, below: place < all.length - 1 }}
                {...(build.named_by_machine ? { keepsName: "A machine has it, and gives it its name." } : {})}
              />
            </td>
          </tr>
        ))}
      </Table>
      {approved && (
        <ApproveBuild
          buildId={approved.id}
          name={`${effect.name} ${approved.version}`}
          onClose={() => setApproved(undefined)}
        />
      )}
      {builds.box && <p className="border-t border-line px-5 py-2">{builds.box}</p>}
      {mayWork && <NewBuild effect={effect} />}
      <Table className="mt-5" title="Settings">
        {effect.settings.length === 0 && (
          <tr>
            <td className="text-quiet">None yet.</td>
          </tr>
        )}
        {listed.map((setting) => (
          <tr key={setting.id}>
            <td className="w-48 font-semibold">
              {setting.name}
              {setting.archived && <ArchivedMark />}
            </td>
            <td>
              {valuesText(effect, setting)}
              <ExpectedOfSetting setting={setting} />
            </td>
            <td className="w-14 py-1! text-right">
              <ThingMenu kind="setting" id={setting.id} name={setting.name} archived={setting.archived} />
            </td>
          </tr>
        ))}
      </Table>
      {listed.length < settings.shown.length && (
        <p className="border-t border-line px-5 py-2">
          <Button small onClick={() => setEvery(true)}>
            Show all {settings.shown.length} settings
          </Button>
        </p>
      )}
      {settings.box && <p className="border-t border-line px-5 py-2">{settings.box}</p>}
      {mayWork && <NewSetting effect={effect} />}
      <Table className="mt-5" title="Parameters" columns={["Parameter", "Default", "Between"]}>
        {effect.parameters.map((parameter) => (
          <tr key={String(parameter.name)}>
            <td className="w-48 font-semibold">{String(parameter.name)}</td>
            <td className="w-48">{valueText(parameter.default, parameter.unit)}</td>
            <td>{between(parameter)}</td>
          </tr>
        ))}
      </Table>
    </>
  );
}

/** How many references came from a build, with the way to them. */
function OfReferences({ effect, references }: { effect: string; references: ReferencesOfBuild | undefined }) {
  if (!references) return null;
  const { version, current, earlier } = references;
  const query = new URLSearchParams({ effect, build: version });
  return (
    <>
      {current > 0 && (
        <Link to={`/references?${query}`} className="underline decoration-line hover:decoration-text">
          {count(current, "reference")}
        </Link>
      )}
      {earlier > 0 && (
        <span className="text-quiet">
          {current > 0 && ", "}
          {current > 0 ? `${earlier} earlier` : count(earlier, "earlier reference")}
        </span>
      )}
    </>
  );
}

const STANDARDS: Record<string, string> = { vst3: "VST3", clap: "CLAP", lv2: "LV2", au: "Audio Unit" };
const SYSTEMS: Record<string, string> = { linux: "Linux", macos: "macOS", windows: "Windows" };

/** The plug-ins that were uploaded for a build. */
function Artefacts({ build }: { build: Build }) {
  return build.artefacts.map((one) => (
    <p key={`${one.standard} ${one.system}`} className="text-quiet" title={`SHA-256 ${one.sha256}`}>
      {STANDARDS[one.standard] ?? one.standard} for {SYSTEMS[one.system] ?? one.system}: {one.name},{" "}
      {(one.size / 1e6).toFixed(1)} MB, {one.sha256.slice(0, 12)}, uploaded by {one.uploaded_by}
      {one.signed_by && ", signed"}
    </p>
  ));
}
