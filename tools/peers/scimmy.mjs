// A SCIM server whose every answer is the library's own, in its default configuration; kept in memory. It is started by
// tests, reads users and groups from the file that is named, and says at which port it listens. Under /state it shows
// what it has, by no way of SCIM.
import { readFileSync } from "node:fs";
import express from "express";
import SCIMMY from "scimmy";
import SCIMMYRouters from "scimmy-routers";

const state = JSON.parse(readFileSync(process.argv[2], "utf8"));
let next = 1;

function keep(kind, list) {
    const all = new Map(list.map((r) => [r.id, r]));
    state[kind] = { toJSON: () => [...all.values()] };
    return {
        ingress: (resource, data) => {
            const id = resource.id ?? `${kind}-${next++}`;
            const name = kind === "users" ? "userName" : "displayName";
            if (resource.id && !all.has(id)) throw new SCIMMY.Types.Error(404, null, `Resource ${id} not found`);
            for (const [other, r] of all) {
                if (other !== id && r[name].toLowerCase() === data[name].toLowerCase()) {
                    throw new SCIMMY.Types.Error(409, "uniqueness", `${data[name]} is taken`);
                }
            }
            const kept = JSON.parse(JSON.stringify({ ...data, id }));
            delete kept.meta;
            all.set(id, kept);
            return { ...kept };
        },
        egress: (resource) => {
            if (!resource.id) return [...all.values()].map((r) => ({ ...r }));
            if (!all.has(resource.id)) throw new SCIMMY.Types.Error(404, null, `Resource ${resource.id} not found`);
            return { ...all.get(resource.id) };
        },
        degress: (resource) => {
            if (!all.delete(resource.id)) throw new SCIMMY.Types.Error(404, null, `Resource ${resource.id} not found`);
        },
    };
}

SCIMMY.Resources.declare(SCIMMY.Resources.User, keep("users", state.users));
SCIMMY.Resources.declare(SCIMMY.Resources.Group, keep("groups", state.groups));

const app = express();
app.get("/state", (_, res) => res.json(state));
app.use("/scim", new SCIMMYRouters({
    type: "bearer",
    handler: (req) => {
        if (req.header("Authorization") !== "Bearer open sesame") throw new Error("the token is missing or wrong");
        return "pravet";
    },
}));
const server = app.listen(0, "127.0.0.1", () => console.log(server.address().port));
