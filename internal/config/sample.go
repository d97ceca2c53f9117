package config

// Sample is a commented file to start from.
const Sample = `# Dexamen's configuration. Looked for as --config says, then DEXAMEN_CONFIG,
# ./dexamen.yaml, the user's and the system's configuration folder.
# Check it with: dexamen config check

# include: [clusters.d/*.yaml]            # files beside this one that add clusters and policies
# default_store: larder                   # of several, where nothing else says which

stores:                                   # where backups go
  larder:
    location: file:///srv/dexamen/larder  # make it with: dexamen store create larder
    key: { file: /etc/dexamen/larder.key }   # made with it; keep a copy elsewhere. Or { env: NAME }
    # identity: 7k3q-…                    # as store create prints it: another store in its place is refused
    # parity: 8+2                         # objects in 8 pieces and 2 more, any 2 of which may be damaged
    # compress: auto                      # harder while the cluster sends slower than that; or small, always. Else fast
    # read_only: true                     # of a host that may only look
    # immutable_for: 30d                  # nobody removes an object earlier (in full only with a bucket's object lock)
  # loft:
  #   location: s3://lindenholt-loft/dexamen
  #   endpoint: https://objects.lindenholt.example:9000   # Amazon's when left out
  #   path_style: true
  #   capacity: 2TiB                     # what the place has, to be told in time when it gets full
  #   prices: { currency: EUR, stored_gib: 0.023, sent_gib: 0.01, write_1000: 0.005, read_1000: 0.0004 }
  #   login: { user: ACCESS-KEY, secret: { file: /etc/dexamen/loft.secret } }  # else the usual places

clusters:                                 # what is protected, and what is restored onto
  meadow:
    address: mongodb://meadow-1:27017/?replicaSet=meadow   # one member is enough
    login:
      user: dexamen
      secret: { env: MEADOW_SECRET }      # or: { file: PATH }, { command: [PROGRAM, ARGUMENT] }
    # tls: { ca: /etc/dexamen/ca.pem, certificate: /etc/dexamen/client.pem }
    # prefer: [meadow-2:27017, secondary, primary]   # who is read; the first that is fit
    # cluster_wide: true                             # users, roles, templates too
    # options: { pause_balancer: true }   # of a sharded cluster: keeps load down
    # scratch: hedge                      # an empty server to look at moments on, where the log holds commands
    # max_lag: 1m                         # how far behind a member may be to be read
    # labels: { yard: north }
    # store: larder                       # where there are several
    # unprotected: true                   # that no policy chooses it is meant
  # clover:                               # a search cluster
  #   address: search+http://clover-1:9200
  #   options: { quiesce: write-block }   # writes are held back for a moment, so that a point is of one
  # paddock:                              # a scratch cluster to restore onto
  #   address: mongodb://paddock-1:27017/?replicaSet=paddock

  # comb:                                 # folders of files, here or elsewhere: ssh://keeper@shed:22/srv/comb/photos
  #   address: file:///srv/comb/photos
  #   labels: { server: gallery }
  #   options: { leave_out: ["*.tmp", "cache/**"] }   # also: [ADDRESS, …], elevate: [sudo, -n]
  #   quiesce: none                       # a way of the next section, or none; the one that applies when left out

# quiesce:                                # how what writes to folders is held still while they are copied
#   gallery:
#     applies_to: { kind: folder, label: server=gallery }   # and name: GLOB
#     begin: [/usr/local/bin/hold-writes]       # on the machine that has the folder; here: true is on this one
#     end: [/usr/local/bin/let-writes-go]       # always runs; does no harm where nothing is held
#     # check: [/usr/local/bin/writes-are-held] # succeeds while it is
#     # clone: { make: [MAKE-SNAPSHOT, "{folder}"], remove: [REMOVE-SNAPSHOT, "{folder}"], at: "/mnt/clone{folder}" }
#     longest: 30s                              # after that it is let go and the copy is void
#   by-members:
#     applies_to: { name: "meadow-files" }
#     cluster: meadow                     # its servers write there; they are locked by means of their own
#     members: [meadow-2:27017]

# servers:                                # started on what was restored of folders: restore … --start gallery-beside
#   gallery-beside:
#     start: [/usr/local/bin/gallery, --folder, "{folder}", --port, "9001", --detach]
#     ready: [/usr/local/bin/gallery, --ping, "9001"]
#     within: 1m

policies:                                 # what is protected, when, and for how long
  nightly:
    clusters: [meadow]                    # or globs, or { label: yard=north }: clusters that fit join by themselves
    # namespaces: ["apiary.*", "not apiary.scratch_*", "notes-%Y.%m.%d on -1d"]   # all when left out
    # cluster_wide: true                  # users, roles, templates too
    # store: larder                       # where there are several
    # mirror_to: loft                     # a second copy, by the same rules; every mirror_every: 1h
    # time_zone: Europe/Berlin            # of schedules and retention; this machine's when left out
    snapshot: "15 1 * * *"                # minute, hour, day, month, day of the week; or: every 6h
    full_read: every 7d                   # points in between are folded from the log, at no load on the cluster
    capture: 10m                          # how often the log is captured, or: continuous
    keep:
      every_moment: 7d                    # any second of the last seven days
      thin: [daily for 30d, weekly for 26w, monthly for 730d]   # hourly, daily, weekly, monthly, yearly
      never_fewer: 3
      # never_more: 200
    # rpo: 30m                            # somebody is told when the newest moment that can be restored is older
    # no_scans: ["08:00-18:00 mon-fri"]   # no scan begins then; the log goes on
    # read_rate: 64MiB/s                  # a second, read by scans
    # retry: { first: 1m, longest: 1h }  # twice as long each time; until it is due again, or for: 6h
    # deadline: 6h                        # of one run
    # clusters_at_once: 2                 # clusters at the same time
    # drill:                              # a restore is rehearsed, checked, timed and taken away again
    #   schedule: "0 4 * * sun"
    #   to: paddock                       # a cluster that holds nothing; else the moment is served here and read back
    #   moment: random in 7d              # latest when left out; or any moment, such as -1h
    #   within: 30m                       # how long it may take until all is there
    #   checks:
    #     - that: counts["apiary.colonies"] > 1000
    #     - { find: apiary.colonies, where: yard == "north", at_least: 10 }
    #     - { run: [/usr/local/bin/smoke-test], timeout: 5m }   # DEXAMEN_ADDRESS says where
    # hooks:
    #   - { before: snapshot, run: [/usr/local/bin/announce, start], timeout: 30s }  # if_fails, environment: [NAME]
    #   - { after: snapshot, run: [/usr/local/bin/announce, end] }   # always runs

# alerts:                                 # once when something begins, and once when it is over
#   webhook: { url: "https://desk.lindenholt.example/dexamen" }   # token, headers, sign_key, ca
#   mail:                                 # tls: starttls, insisted on when left out; always; none. And login, ca
#     { server: "mail.lindenholt.example:587", from: dexamen@lindenholt.example, to: [keeper@lindenholt.example] }
#   about: [failure, gap, loss, rpo, proof, drill, mirror, capacity, unprotected, drop, burst, temporary]
#   burst: { least: 100, factor: 10 }               # how many deletions or updates are told

# daemon:
#   listen: "127.0.0.1:9480"              # a page of how everything is; /healthz, /readyz, /metrics
#   token: { file: /etc/dexamen/page.token }   # who sees the page from other machines
#   tls: { certificate: /etc/dexamen/page.pem, client_ca: /etc/dexamen/ca.pem }

# report:                                 # sent by mail, as alerts: mail: says
#   schedule: "0 7 1 * *"
#   last: 30d
#   to: [board@lindenholt.example]        # who gets alerts when left out

# evidence:                               # what drills, restores and verifications found is signed
#   key: { file: /etc/dexamen/evidence.pem }   # else with a key that this host makes and keeps

# workers:                                # several processes share the work of snapshots, captures, restores ...
#   servers: ["tls://n1.lindenholt.example:4222", "tls://n2.lindenholt.example:4222"]   # NATS with JetStream
#   credentials: /etc/dexamen/workers.creds   # tls: { ca, certificate }, replicas
#   name: north-1                         # of this process; the host's when left out
#   labels: { site: north }               # of this process
#   parallel: 4                           # tasks of this process
#   readers_per_cluster: 16               # tasks of a job, over all processes
#   lost_after: 30s                       # a silent worker's tasks go to others
#   rules:                                # who works on what; the first that fits
#     - { clusters: ["apiary-*"], only: { site: north } }
#   limits:                               # of all processes together, whatever they do; captures are not bound
#     - { name: north-link, clusters: { label: site=north }, tasks: 8, rate: 200MiB/s }   # or stores: [larder]
#   divide: true                          # each daemon carries out policies of its share of the clusters

# limits:
#   memory: 512MiB                        # of the program; a quarter of the machine's, up to 1GiB, when left out
#   readers_per_cluster: 4                # readers or writers on a cluster at once
#   temp: /var/tmp                        # temporary files; they have no name and leave nothing behind
`
