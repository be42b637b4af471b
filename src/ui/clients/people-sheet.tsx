"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { CLIENT_ROLES, PROVIDER_ROLES, ROLE_NAMES, ROLE_WORDS, ROLES, type Role } from "@/core/rights/rights";
import { ActionButton, showRefusal } from "../parts/actions";
import { callApi } from "../parts/api";
import { Refusal, SelectField, TextField, useSending } from "../parts/form";
import { say } from "../parts/say";

/** Whose people are shown. */
export function PeopleOf({
  chosen,
  choices,
}: {
  chosen: string;
  choices: readonly { readonly value: string; readonly name: string }[];
}) {
  const router = useRouter();
  return (
    <select
      className="select h-[30px] w-[260px]"
      aria-label="Whose people"
      value={chosen}
      onChange={(event) => router.push(`/people?of=${event.target.value}`)}
    >
      {choices.map(({ value, name }) => (
        <option key={value} value={value}>
          {name}
        </option>
      ))}
    </select>
  );
}

interface MadeInvitation {
  readonly url: string;
  readonly mailed: boolean;
}

function Invitation({ name, invitation }: { name: string; invitation: MadeInvitation }) {
  return (
    <div className="said grid gap-1" data-invitation={invitation.url}>
      <p>
        {invitation.mailed
          ? `${name} receives this address by mail`
          : `No mail server is set up. Send ${name} this link yourself`}
        ; it works once, within seven days, and is shown only now.
      </p>
      <code className="font-mono text-[12.5px] break-all">{invitation.url}</code>
    </div>
  );
}

/** Invites somebody, of a client or of the provider. */
export function InvitePerson({
  clientId,
  clientName,
  base,
}: {
  clientId: string | null;
  clientName: string;
  base: string;
}) {
  const router = useRouter();
  const sending = useSending();
  const roles: readonly Role[] = clientId ? CLIENT_ROLES : PROVIDER_ROLES;
  const [name, setName] = useState("");
  const [email, setEmail] = useState("");
  const [role, setRole] = useState<Role>(clientId ? "person" : "technician");
  const [made, setMade] = useState<{ name: string; invitation: MadeInvitation } | null>(null);
  return (
    <form
      className="grid gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        void sending.send(async () => {
          const { invitation, person } = await callApi<{
            invitation: MadeInvitation;
            person: { id: string };
          }>("POST", clientId ? `/clients/${clientId}/people` : "/people", { name, email, role });
          setMade({ name, invitation });
          setName("");
          setEmail("");
          router.refresh();
          router.prefetch(`${base}&sel=${person.id}`);
        });
      }}
    >
      <h2 className="text-[15px]">Invite a person of {clientName}</h2>
      <TextField
        label="Name"
        error={sending.errorOf("name")}
        value={name}
        onChange={(event) => setName(event.target.value)}
      />
      <TextField
        label="E-mail address"
        error={sending.errorOf("email")}
        type="email"
        value={email}
        onChange={(event) => setEmail(event.target.value)}
      />
      <RoleField roles={roles} role={role} setRole={setRole} />
      {sending.problem && sending.problem.errors.length === 0 && <Refusal problem={sending.problem} />}
      <button type="submit" className="btn btn-primary justify-self-start" disabled={sending.busy}>
        Invite
      </button>
      {made && <Invitation {...made} />}
    </form>
  );
}

function RoleField({
  roles,
  role,
  setRole,
  error,
}: {
  roles: readonly Role[];
  role: Role;
  setRole: (role: Role) => void;
  error?: string | undefined;
}) {
  return (
    <div>
      <SelectField
        label="Role"
        error={error}
        value={role}
        onChange={(event) => setRole(event.target.value as Role)}
      >
        {roles.map((one) => (
          <option key={one} value={one}>
            {ROLE_NAMES[one]}
          </option>
        ))}
      </SelectField>
      <p className="text-soft mt-1 text-[13px]">{ROLE_WORDS[role]}</p>
    </div>
  );
}

/** Which roles must have a second factor. */
export function DemandFactor({ roles }: { roles: readonly Role[] }) {
  const router = useRouter();
  const sending = useSending();
  return (
    <fieldset className="grid gap-2">
      <legend className="mb-1 text-[15px] font-semibold">Second factor required for</legend>
      {ROLES.map((role) => (
        <label key={role} className="flex items-center gap-2">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            checked={roles.includes(role)}
            disabled={sending.busy}
            onChange={(event) =>
              sending.send(async () => {
                await callApi("PUT", "/people/factor-roles", {
                  roles: event.target.checked ? [...roles, role] : roles.filter((one) => one !== role),
                });
                router.refresh();
              })
            }
          />
          {ROLE_NAMES[role]}
        </label>
      ))}
      <p className="text-soft text-[13px]">People without one can then only set one up.</p>
      <Refusal problem={sending.problem} />
    </fieldset>
  );
}

interface DocketPerson {
  readonly id: string;
  readonly clientId: string | null;
  readonly name: string;
  readonly email: string;
  readonly role: Role;
  readonly clientIds: readonly string[] | null;
  readonly factor: boolean;
  readonly invited: boolean;
}
interface DocketGift {
  readonly id: string;
  readonly sourceName: string;
  readonly pathName: string;
  readonly askFirst: boolean;
  readonly givenBy: string;
}

/** All about one person, and what can be done. */
export function PersonDocket({
  person,
  me,
  clients,
  gifts,
  sources,
}: {
  person: DocketPerson;
  me: string;
  clients: readonly { readonly id: string; readonly name: string }[];
  gifts: readonly DocketGift[];
  sources: readonly { readonly id: string; readonly name: string }[];
}) {
  const router = useRouter();
  const sending = useSending();
  const [invitation, setInvitation] = useState<MadeInvitation | null>(null);
  const limited = person.clientIds ?? [];
  const change = (body: object) =>
    sending.send(async () => {
      await callApi("PATCH", `/people/${person.id}`, body);
      say.success(`${person.name}’s rights saved.`);
      router.refresh();
    });
  return (
    <div className="grid gap-6">
      <div>
        <h2 className="text-[15px]">{person.name}</h2>
        <p className="text-soft">{person.email}</p>
      </div>
      <section className="grid gap-3">
        <RoleField
          roles={person.clientId ? CLIENT_ROLES : PROVIDER_ROLES}
          role={person.role}
          setRole={(role) => void change({ role })}
          error={sending.errorOf("role")}
        />
        {!person.clientId && person.role !== "owner" && (
          <fieldset>
            <legend className="field-label">Clients (none selected: all)</legend>
            <div className="border-base-300 max-h-[180px] overflow-y-auto border p-2">
              {clients.map((client) => (
                <label key={client.id} className="flex items-center gap-2 py-[2px]">
                  <input
                    type="checkbox"
                    className="checkbox checkbox-xs"
                    checked={limited.includes(client.id)}
                    onChange={(event) =>
                      void change({
                        clientIds: event.target.checked
                          ? [...limited, client.id]
                          : limited.filter((id) => id !== client.id),
                      })
                    }
                  />
                  {client.name}
                </label>
              ))}
            </div>
          </fieldset>
        )}
        {sending.problem && sending.problem.errors.length === 0 && <Refusal problem={sending.problem} />}
      </section>
      {person.clientId && (
        <Gifts clientId={person.clientId} person={person} gifts={gifts} sources={sources} />
      )}
      <section className="grid gap-2">
        <h3 className="font-semibold">Sign-in</h3>
        <p className="text-soft">
          {person.invited
            ? "Invited; no password was chosen yet."
            : person.factor
              ? "By password and second factor."
              : "By password alone."}
        </p>
        <div className="flex flex-wrap gap-2">
          <button
            type="button"
            className="btn btn-plain"
            onClick={() =>
              callApi<{ invitation: MadeInvitation }>("POST", `/people/${person.id}/invitation`).then(
                (answer) => setInvitation(answer.invitation),
                showRefusal,
              )
            }
          >
            {person.invited ? "Invite again" : "Send password reset"}
          </button>
          {person.factor && (
            <ActionButton
              action={() => callApi("DELETE", `/people/${person.id}/factor`)}
              done="Second factor turned off. Sessions ended."
            >
              Turn off lost second factor
            </ActionButton>
          )}
          <ActionButton
            action={() => callApi("DELETE", `/people/${person.id}/sessions`)}
            done={`${person.name} is signed out everywhere.`}
          >
            End all sessions
          </ActionButton>
        </div>
        {invitation && <Invitation name={person.name} invitation={invitation} />}
      </section>
      {person.id !== me && <CloseAccount person={person} />}
    </div>
  );
}

function Gifts({
  clientId,
  person,
  gifts,
  sources,
}: {
  clientId: string;
  person: DocketPerson;
  gifts: readonly DocketGift[];
  sources: readonly { readonly id: string; readonly name: string }[];
}) {
  const router = useRouter();
  const sending = useSending();
  const [sourceId, setSourceId] = useState(sources[0]?.id ?? "");
  const [path, setPath] = useState("/");
  const [askFirst, setAskFirst] = useState(false);
  return (
    <section className="grid gap-3" aria-label="Given">
      <h3 className="font-semibold">What {person.name.split(" ")[0]} gets back without calling you</h3>
      {gifts.length === 0 && <p className="text-soft">Nothing yet. The portal is empty for this person.</p>}
      <ul>
        {gifts.map((gift) => (
          <li key={gift.id} className="border-line flex items-center gap-3 border-b py-2">
            <span className="min-w-0 flex-1">
              {gift.sourceName} <span className="font-mono text-[12.5px]">{gift.pathName}</span>
              <span className="text-soft">
                {" "}
                · by {gift.givenBy}
                {gift.askFirst && ", with the manager's approval"}
              </span>
            </span>
            <ActionButton
              action={() => callApi("DELETE", `/gifts/${gift.id}`)}
              done={`${person.name} no longer sees it.`}
            >
              Revoke
            </ActionButton>
          </li>
        ))}
      </ul>
      <form
        className="grid gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          void sending.send(async () => {
            await callApi("POST", `/clients/${clientId}/gifts`, {
              personId: person.id,
              sourceId,
              path,
              askFirst,
            });
            say.success(`${person.name} sees it in the portal now.`);
            setPath("/");
            router.refresh();
          });
        }}
      >
        <SelectField
          label="Give"
          error={sending.errorOf("sourceId")}
          value={sourceId}
          onChange={(event) => setSourceId(event.target.value)}
        >
          {sources.map((source) => (
            <option key={source.id} value={source.id}>
              {source.name}
            </option>
          ))}
        </SelectField>
        <TextField
          label="Folder"
          help="/ gives access to the whole source. This person cannot see or restore anything outside the folder."
          error={sending.errorOf("path")}
          mono
          value={path}
          onChange={(event) => setPath(event.target.value)}
        />
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            checked={askFirst}
            onChange={(event) => setAskFirst(event.target.checked)}
          />
          Ask the client’s manager before each restore
        </label>
        {sending.problem && sending.problem.errors.length === 0 && <Refusal problem={sending.problem} />}
        <button
          type="submit"
          className="btn btn-primary justify-self-start"
          disabled={sending.busy || !sourceId}
        >
          Give access
        </button>
      </form>
    </section>
  );
}

function CloseAccount({ person }: { person: DocketPerson }) {
  const router = useRouter();
  const [typed, setTyped] = useState<string | null>(null);
  if (typed === null) {
    return (
      <button type="button" className="btn btn-plain justify-self-start" onClick={() => setTyped("")}>
        Close this account…
      </button>
    );
  }
  return (
    <form
      className="warned grid gap-2"
      onSubmit={async (event) => {
        event.preventDefault();
        try {
          await callApi("DELETE", `/people/${person.id}`);
          say.success(`The account of ${person.name} is closed.`);
          router.refresh();
        } catch (error) {
          showRefusal(error);
        }
      }}
    >
      <label htmlFor="close-account">
        Sessions, tokens and shares end immediately; what {person.name} did stays in the trail. Type{" "}
        <b>{person.name}</b> to confirm.
      </label>
      <input
        id="close-account"
        className="input w-full"
        value={typed}
        onChange={(event) => setTyped(event.target.value)}
      />
      <div className="flex gap-2">
        <button type="submit" className="btn btn-error" disabled={typed !== person.name}>
          Close account
        </button>
        <button type="button" className="btn btn-plain" onClick={() => setTyped(null)}>
          Cancel
        </button>
      </div>
    </form>
  );
}
