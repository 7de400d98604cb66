import { useMutation, useQuery } from "@tanstack/react-query";
import { api, dataOf, type Schemas } from "./client";
import { useChange } from "./queries";

export type Me = Schemas["MeView"];
export type Role = Schemas["MemberView"]["role"];
export type Member = Schemas["MemberView"];

/** Who is at the page, and how one signs in on this server. */
export function useMe() {
  return useQuery({ queryKey: ["me"], queryFn: () => dataOf(api.GET("/api/me")) });
}

/** After it somebody else is at the page: all is read anew, and nothing of who was before is left. */
function usePassage<Input>(pass: (input: Input) => Promise<unknown>, to?: string) {
  return useMutation({
    mutationFn: pass,
    onSuccess: () => (to ? window.location.replace(to) : window.location.reload()),
  });
}

/** Whoever comes by an address is led there. */
export function useSignIn() {
  return usePassage((body: Schemas["SignInBody"]) => dataOf(api.POST("/api/sign-in", { body })));
}

export function useSignOut() {
  return usePassage(() => dataOf(api.POST("/api/sign-out")), "/");
}

/** For whom the invitation is, whose secret the link has. */
export function useInvitation(secret: string) {
  return useQuery({
    queryKey: ["invitation", secret],
    queryFn: () => dataOf(api.POST("/api/invitations/look", { body: { secret } })),
    staleTime: "static",
  });
}

export function useAccept() {
  return usePassage(
    (body: Schemas["AcceptBody"]) => dataOf(api.POST("/api/invitations/accept", { body })),
    "/",
  );
}

export function useNewPassword() {
  return useChange((body: Schemas["PasswordBody"]) =>
    dataOf(api.PUT("/api/me/password", { body })),
  );
}

export function useTokens() {
  return useQuery({ queryKey: ["tokens"], queryFn: () => dataOf(api.GET("/api/me/tokens")) });
}

export function useNewToken() {
  return useChange((body: Schemas["NewToken"]) => dataOf(api.POST("/api/me/tokens", { body })));
}

export function useEndToken() {
  return useChange((number: number) =>
    dataOf(api.DELETE("/api/me/tokens/{number}", { params: { path: { number } } })),
  );
}

export function useMembers(app: string) {
  return useQuery({
    queryKey: ["study", app, "members"],
    queryFn: () => dataOf(api.GET("/api/apps/{app}/members", { params: { path: { app } } })),
  });
}

export function useDeeds(app: string) {
  return useQuery({
    queryKey: ["study", app, "deeds"],
    queryFn: () => dataOf(api.GET("/api/apps/{app}/deeds", { params: { path: { app } } })),
    staleTime: 0,
  });
}

export function useAddMember(app: string) {
  return useChange((body: Schemas["NewMember"]) =>
    dataOf(api.POST("/api/apps/{app}/members", { params: { path: { app } }, body })),
  );
}

export function useChangeRole(app: string) {
  return useChange(({ id, role }: { id: number; role: Role }) =>
    dataOf(
      api.PUT("/api/apps/{app}/members/{person_id}", {
        params: { path: { app, person_id: id } },
        body: { role },
      }),
    ),
  );
}

export function useRemoveMember(app: string) {
  return useChange((id: number) =>
    dataOf(
      api.DELETE("/api/apps/{app}/members/{person_id}", {
        params: { path: { app, person_id: id } },
      }),
    ),
  );
}

export function useGiveLink() {
  return useChange((id: number) =>
    dataOf(api.POST("/api/people/{person_id}/link", { params: { path: { person_id: id } } })),
  );
}

export function useEndAccount() {
  return useChange((id: number) =>
    dataOf(api.DELETE("/api/people/{person_id}", { params: { path: { person_id: id } } })),
  );
}
