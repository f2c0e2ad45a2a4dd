import { queryOptions, useMutation, useQueryClient } from "@tanstack/react-query";
import { type Approvable, client, type Setting, unwrap } from "../../api/client";
import { sendFile } from "../../api/upload";

export const effectsQuery = queryOptions({
  queryKey: ["effects"],
  queryFn: ({ signal }) => unwrap(client.GET("/api/effects", { signal })),
});

/** The builds that an effect's references came from, with how many. */
export const referencesOfEffectQuery = (effectId: number) =>
  queryOptions({
    queryKey: ["references", "by build", effectId],
    queryFn: ({ signal }) =>
      unwrap(
        client.GET("/api/effects/{effect_id}/references", {
          params: { path: { effect_id: effectId } },
          signal,
        }),
      ),
  });

/** What a build rendered, and how much of it can become references. */
export const rendersOfBuildQuery = (buildId: number) =>
  queryOptions({
    queryKey: ["builds", buildId, "renders"],
    queryFn: ({ signal }) =>
      unwrap(
        client.GET("/api/builds/{build_id}/references", { params: { path: { build_id: buildId } }, signal }),
      ),
  });

interface ApprovedBuild {
  verdicts: Approvable[];
  expected: number;
  why: string;
}

/** Makes what a build rendered the references. */
export const useApproveBuild = (buildId: number) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: ApprovedBuild) =>
      unwrap(
        client.POST("/api/builds/{build_id}/references", { params: { path: { build_id: buildId } }, body }),
      ),
    // A refusal says that there is more or less to approve than was seen: either way it is looked at anew.
    onSettled: () => queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== "strip" }),
  });
};

/** Adds an effect that a machine has, or, bare, one whose builds are uploaded. */
export const useAddEffect = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({ name, bare = false }: { name: string; bare?: boolean }) =>
      unwrap(client.POST("/api/effects", { body: { name, bare } })),
    onSuccess: () =>
      Promise.all([
        queries.invalidateQueries({ queryKey: ["hosts"] }),
        queries.invalidateQueries({ queryKey: ["effects"] }),
      ]),
  });
};

/** Tells of a build of an effect. */
export const useAddBuild = (effect: string) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (build: { version: string; note: string }) =>
      unwrap(client.POST("/api/builds", { body: { effect, ...build } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["effects"] }),
  });
};

/** Says what is expected of a setting. */
export const useExpect = (settingId: number) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (expected: Setting["expected"]) =>
      unwrap(
        client.PUT("/api/effects/settings/{setting_id}/expected", {
          params: { path: { setting_id: settingId } },
          body: { expected },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["effects"] }),
  });
};

interface NewSetting {
  name: string;
  values: Setting["values"];
  preset: File | undefined;
}

/** Names values of an effect's parameters, over a preset where its file is given. */
export const useMakeSetting = (effectId: number) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({ name, values, preset }: NewSetting) => {
      if (!preset)
        return unwrap(
          client.POST("/api/effects/{effect_id}/settings", {
            params: { path: { effect_id: effectId } },
            body: { name, values },
          }),
        );
      const asked = new URLSearchParams({ name, file: preset.name, values: JSON.stringify(values) });
      const path = `/api/effects/${effectId}/presets?${asked}`;
      return sendFile<Setting>(path, preset, () => undefined, new AbortController().signal);
    },
    onSuccess: () => queries.invalidateQueries({ queryKey: ["effects"] }),
  });
};
