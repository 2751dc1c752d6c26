package postgres

// catalogQuery is one query over the catalog and what is done with its rows.
type catalogQuery struct {
	sql string
	add func(*builder, row) error
}

// notExtension leaves out what belongs to an extension.
func notExtension(class, number string) string {
	return "not exists (select 1 from pg_catalog.pg_depend x where x.classid = 'pg_catalog." + class +
		"'::pg_catalog.regclass and x.objid = " + number + " and x.deptype = 'e')"
}

// catalogQueries are run in order; later ones find what earlier ones made. Each sorts
// its rows, so that the same database reads the same. (PostgreSQL, "System Catalogs".)
var catalogQueries = []catalogQuery{
	{`select n.oid, n.nspname, pg_catalog.pg_get_userbyid(n.nspowner), n.nspacl::text from pg_catalog.pg_namespace n where %NS and ` +
		notExtension("pg_namespace", "n.oid") + ` order by 2`, (*builder).namespace},
	{`select e.oid, e.extname, n.nspname from pg_catalog.pg_extension e join pg_catalog.pg_namespace n on n.oid = e.extnamespace where e.extname <> 'plpgsql' order by 2`, (*builder).extension},
	{`select s.seqrelid, n.nspname, c.relname, c.relpersistence, pg_catalog.format_type(s.seqtypid, null), s.seqstart, s.seqincrement, s.seqmin, s.seqmax, s.seqcache, s.seqcycle,
		pg_catalog.pg_get_userbyid(c.relowner), c.relacl::text, d.deptype, d.refobjid, d.refobjsubid
		from pg_catalog.pg_sequence s join pg_catalog.pg_class c on c.oid = s.seqrelid join pg_catalog.pg_namespace n on n.oid = c.relnamespace
		left join pg_catalog.pg_depend d on d.classid = 'pg_catalog.pg_class'::pg_catalog.regclass and d.objid = c.oid and d.objsubid = 0 and d.refclassid = 'pg_catalog.pg_class'::pg_catalog.regclass and d.deptype in ('a', 'i') and d.refobjsubid > 0
		where %NS and ` + notExtension("pg_class", "c.oid") + ` order by 2, 3`, (*builder).sequence},
	{`select c.oid, n.nspname, c.relname, c.relkind, c.relpersistence, c.reloptions::text, t.reloptions::text, pg_catalog.pg_get_userbyid(c.relowner), c.relacl::text,
		c.relrowsecurity, c.relforcerowsecurity, c.relreplident, am.amname, ts.spcname, case when c.reloftype <> 0 then pg_catalog.format_type(c.reloftype, null) end,
		case when c.relkind = 'p' then pg_catalog.pg_get_partkeydef(c.oid) end, case when c.relispartition then pg_catalog.pg_get_expr(c.relpartbound, c.oid) end,
		case when c.relkind in ('v', 'm') then pg_catalog.pg_get_viewdef(c.oid) end, fs.srvname, f.ftoptions::text,
		(select pg_catalog.string_agg(pg_catalog.quote_ident(pn.nspname) || '.' || pg_catalog.quote_ident(p.relname), ', ' order by i.inhseqno) from pg_catalog.pg_inherits i join pg_catalog.pg_class p on p.oid = i.inhparent join pg_catalog.pg_namespace pn on pn.oid = p.relnamespace where i.inhrelid = c.oid)
		from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace left join pg_catalog.pg_class t on t.oid = c.reltoastrelid left join pg_catalog.pg_am am on am.oid = c.relam and am.amname <> 'heap'
		left join pg_catalog.pg_tablespace ts on ts.oid = c.reltablespace left join pg_catalog.pg_foreign_table f on f.ftrelid = c.oid left join pg_catalog.pg_foreign_server fs on fs.oid = f.ftserver
		where c.relkind in ('r', 'p', 'f', 'v', 'm') and %NS and ` + notExtension("pg_class", "c.oid") + ` order by 2, 3`,
		(*builder).relation},
	{`select t.oid, n.nspname, t.typname, t.typtype, t.typrelid, pg_catalog.pg_get_userbyid(t.typowner), t.typacl::text, pg_catalog.format_type(t.typbasetype, t.typtypmod), t.typnotnull,
		coalesce(pg_catalog.pg_get_expr(t.typdefaultbin, 0), case when t.typtype <> 'd' then t.typdefault end), case when t.typcollation <> bt.typcollation then pg_catalog.quote_ident(cn.nspname) || '.' || pg_catalog.quote_ident(co.collname) end,
		pg_catalog.format_type(r.rngsubtype, null), case when oc.opcdefault then null else pg_catalog.quote_ident(ocn.nspname) || '.' || pg_catalog.quote_ident(oc.opcname) end, nullif(r.rngcanonical::text, '-'), nullif(r.rngsubdiff::text, '-'),
		case when r.rngmultitypid is not null then (select pg_catalog.quote_ident(mn.nspname) || '.' || pg_catalog.quote_ident(m.typname) from pg_catalog.pg_type m join pg_catalog.pg_namespace mn on mn.oid = m.typnamespace where m.oid = r.rngmultitypid) end,
		t.typinput::text, t.typoutput::text, nullif(t.typreceive::text, '-'), nullif(t.typsend::text, '-'), nullif(t.typmodin::text, '-'), nullif(t.typmodout::text, '-'), nullif(t.typanalyze::text, '-'),
		t.typlen, t.typbyval, t.typalign, t.typstorage, t.typcategory, t.typispreferred, case when t.typelem <> 0 then pg_catalog.format_type(t.typelem, null) end, t.typdelim, t.typcollation <> 0, t.typisdefined,
		case when r.rngcollation <> st.typcollation then pg_catalog.quote_ident(rcn.nspname) || '.' || pg_catalog.quote_ident(rc.collname) end, nullif(t.typsubscript::text, '-')
		from pg_catalog.pg_type t join pg_catalog.pg_namespace n on n.oid = t.typnamespace left join pg_catalog.pg_class c on c.oid = t.typrelid left join pg_catalog.pg_type bt on bt.oid = t.typbasetype
		left join pg_catalog.pg_collation co on co.oid = t.typcollation left join pg_catalog.pg_namespace cn on cn.oid = co.collnamespace
		left join pg_catalog.pg_range r on r.rngtypid = t.oid left join pg_catalog.pg_opclass oc on oc.oid = r.rngsubopc left join pg_catalog.pg_namespace ocn on ocn.oid = oc.opcnamespace
		left join pg_catalog.pg_type st on st.oid = r.rngsubtype left join pg_catalog.pg_collation rc on rc.oid = r.rngcollation left join pg_catalog.pg_namespace rcn on rcn.oid = rc.collnamespace
		where %NS and t.typtype in ('b', 'c', 'd', 'e', 'r') and (t.typrelid = 0 or c.relkind = 'c') and not exists (select 1 from pg_catalog.pg_type el where el.typarray = t.oid) and ` + notExtension("pg_type", "t.oid") + ` order by 2, 3`, (*builder).typ},
	{`select e.enumtypid, e.enumlabel from pg_catalog.pg_enum e order by e.enumtypid, e.enumsortorder`, (*builder).enumValue},
	{`select a.attrelid, a.attnum, a.attname, pg_catalog.format_type(a.atttypid, a.atttypmod), a.attnotnull, pg_catalog.pg_get_expr(d.adbin, d.adrelid), a.attidentity, a.attgenerated, a.attislocal,
		case when a.attcollation <> t.typcollation then pg_catalog.quote_ident(cn.nspname) || '.' || pg_catalog.quote_ident(co.collname) end,
		case when a.attstorage <> t.typstorage then a.attstorage end, a.attcompression, case when a.attstattarget >= 0 then a.attstattarget end, a.attoptions::text, a.attfdwoptions::text, a.attacl::text, d.oid, a.attinhcount
		from pg_catalog.pg_attribute a join pg_catalog.pg_class c on c.oid = a.attrelid join pg_catalog.pg_namespace n on n.oid = c.relnamespace join pg_catalog.pg_type t on t.oid = a.atttypid
		left join pg_catalog.pg_attrdef d on d.adrelid = a.attrelid and d.adnum = a.attnum left join pg_catalog.pg_collation co on co.oid = a.attcollation left join pg_catalog.pg_namespace cn on cn.oid = co.collnamespace
		where %NS and a.attnum > 0 and not a.attisdropped and c.relkind in ('r', 'p', 'f', 'v', 'm', 'c') order by a.attrelid, a.attnum`,
		(*builder).column},
	{`select c.oid, c.conrelid, c.contypid, c.conname, c.contype, pg_catalog.pg_get_constraintdef(c.oid), c.conindid, (select pg_catalog.quote_ident(pn.nspname) || '.' || pg_catalog.quote_ident(pc.relname) from pg_catalog.pg_inherits i join pg_catalog.pg_class pc on pc.oid = i.inhparent join pg_catalog.pg_namespace pn on pn.oid = pc.relnamespace where i.inhrelid = c.conindid and c.contype in ('p', 'u', 'x')),
		x.indisclustered, x.indisreplident
		from pg_catalog.pg_constraint c join pg_catalog.pg_namespace n on n.oid = c.connamespace left join pg_catalog.pg_index x on x.indexrelid = c.conindid and c.contype in ('p', 'u', 'x') where %NS and c.contype in ('c', 'f', 'p', 'u', 'x') and (c.conislocal or c.contype in ('p', 'u', 'x')) and (c.conparentid = 0 or c.contype in ('p', 'u', 'x')) order by c.conrelid, c.conname`, (*builder).constraint},
	{`select i.indexrelid, i.indrelid, c.relname, pg_catalog.pg_get_indexdef(i.indexrelid), i.indisclustered, i.indisreplident, i.indisvalid, (select pg_catalog.quote_ident(pn.nspname) || '.' || pg_catalog.quote_ident(pc.relname) from pg_catalog.pg_inherits h join pg_catalog.pg_class pc on pc.oid = h.inhparent join pg_catalog.pg_namespace pn on pn.oid = pc.relnamespace where h.inhrelid = c.oid), ts.spcname, c.relkind,
		(select pg_catalog.string_agg(a.attnum || ' ' || a.attstattarget, ',' order by a.attnum) from pg_catalog.pg_attribute a where a.attrelid = c.oid and a.attstattarget >= 0)
		from pg_catalog.pg_index i join pg_catalog.pg_class c on c.oid = i.indexrelid join pg_catalog.pg_namespace n on n.oid = c.relnamespace left join pg_catalog.pg_tablespace ts on ts.oid = c.reltablespace
		where %NS and not exists (select 1 from pg_catalog.pg_constraint k where k.conindid = i.indexrelid and k.contype in ('p', 'u', 'x')) order by i.indrelid, c.relname`, (*builder).index},
	{`select t.oid, t.tgrelid, t.tgname, pg_catalog.pg_get_triggerdef(t.oid), t.tgenabled from pg_catalog.pg_trigger t where not t.tgisinternal and t.tgparentid = 0 order by t.tgrelid, t.tgname`, (*builder).trigger},
	{`select r.oid, r.ev_class, r.rulename, pg_catalog.pg_get_ruledef(r.oid), r.ev_enabled from pg_catalog.pg_rewrite r join pg_catalog.pg_class c on c.oid = r.ev_class join pg_catalog.pg_namespace n on n.oid = c.relnamespace where %NS and r.rulename <> '_RETURN' order by r.ev_class, r.rulename`, (*builder).rule},
	{`select p.oid, p.polrelid, p.polname, p.polpermissive, p.polcmd, case when p.polroles = '{0}' then 'public' else (select pg_catalog.string_agg(pg_catalog.quote_ident(rolname), ', ' order by rolname) from pg_catalog.pg_roles where oid = any(p.polroles)) end,
		pg_catalog.pg_get_expr(p.polqual, p.polrelid), pg_catalog.pg_get_expr(p.polwithcheck, p.polrelid) from pg_catalog.pg_policy p order by p.polrelid, p.polname`, (*builder).policy},
	{`select s.oid, s.stxrelid, s.stxname, n.nspname, pg_catalog.pg_get_statisticsobjdef(s.oid), case when s.stxstattarget >= 0 then s.stxstattarget end from pg_catalog.pg_statistic_ext s join pg_catalog.pg_namespace n on n.oid = s.stxnamespace where %NS and ` + notExtension("pg_statistic_ext", "s.oid") + ` order by s.stxrelid, s.stxname`, (*builder).statistics},
	{`select p.oid, n.nspname, p.proname, p.prokind, case when p.prokind <> 'a' then pg_catalog.pg_get_functiondef(p.oid) end, pg_catalog.pg_get_userbyid(p.proowner), p.proacl::text, pg_catalog.pg_get_function_arguments(p.oid),
		a.aggfnoid, a.aggkind, a.aggtransfn, a.aggfinalfn, a.aggcombinefn, a.aggserialfn, a.aggdeserialfn, a.aggmtransfn, a.aggminvtransfn, a.aggmfinalfn, a.aggfinalextra, a.aggmfinalextra, a.aggfinalmodify, a.aggmfinalmodify,
		case when a.aggsortop <> 0 then (select pg_catalog.quote_ident(opn.nspname) || '.' || op.oprname from pg_catalog.pg_operator op join pg_catalog.pg_namespace opn on opn.oid = op.oprnamespace where op.oid = a.aggsortop) end, pg_catalog.format_type(a.aggtranstype, null), a.aggtransspace, case when a.aggmtranstype <> 0 then pg_catalog.format_type(a.aggmtranstype, null) end, a.aggmtransspace, a.agginitval, a.aggminitval, p.proparallel
		from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace left join pg_catalog.pg_aggregate a on a.aggfnoid = p.oid
		where %NS and not exists (select 1 from pg_catalog.pg_depend d where d.classid = 'pg_catalog.pg_proc'::pg_catalog.regclass and d.objid = p.oid and d.deptype = 'i') and ` + notExtension("pg_proc", "p.oid") + ` order by 2, 3, pg_catalog.pg_get_function_identity_arguments(p.oid)`, (*builder).routine},
	{`select o.oid, n.nspname, o.oprname, case when o.oprleft <> 0 then pg_catalog.format_type(o.oprleft, null) end, case when o.oprright <> 0 then pg_catalog.format_type(o.oprright, null) end, o.oprcode::text, (select pg_catalog.quote_ident(cn.nspname) || '.' || c.oprname from pg_catalog.pg_operator c join pg_catalog.pg_namespace cn on cn.oid = c.oprnamespace where c.oid = o.oprcom),
		(select pg_catalog.quote_ident(cn.nspname) || '.' || c.oprname from pg_catalog.pg_operator c join pg_catalog.pg_namespace cn on cn.oid = c.oprnamespace where c.oid = o.oprnegate), nullif(o.oprrest::text, '-'), nullif(o.oprjoin::text, '-'), o.oprcanhash, o.oprcanmerge, pg_catalog.pg_get_userbyid(o.oprowner)
		from pg_catalog.pg_operator o join pg_catalog.pg_namespace n on n.oid = o.oprnamespace where %NS and o.oprcode <> 0 and ` + notExtension("pg_operator", "o.oid") + ` order by 2, 3, 4, 5`, (*builder).operator},
	{`select f.oid, n.nspname, f.opfname, am.amname, pg_catalog.pg_get_userbyid(f.opfowner) from pg_catalog.pg_opfamily f join pg_catalog.pg_namespace n on n.oid = f.opfnamespace join pg_catalog.pg_am am on am.oid = f.opfmethod where %NS and ` + notExtension("pg_opfamily", "f.oid") + ` order by 2, 3, 4`, (*builder).family},
	{`select c.oid, n.nspname, c.opcname, am.amname, pg_catalog.pg_get_userbyid(c.opcowner), c.opcdefault, pg_catalog.format_type(c.opcintype, null), fn.nspname, f.opfname, case when c.opckeytype <> 0 then pg_catalog.format_type(c.opckeytype, null) end
		from pg_catalog.pg_opclass c join pg_catalog.pg_namespace n on n.oid = c.opcnamespace join pg_catalog.pg_am am on am.oid = c.opcmethod join pg_catalog.pg_opfamily f on f.oid = c.opcfamily join pg_catalog.pg_namespace fn on fn.oid = f.opfnamespace where %NS and ` + notExtension("pg_opclass", "c.oid") + ` order by 2, 3, 4`, (*builder).class},
	{`select d.refclassid::pg_catalog.regclass, d.refobjid, 'operator ' || o.amopstrategy || ' ' || o.amopopr::pg_catalog.regoperator::text || case when o.amoppurpose = 'o' then ' for order by ' || (select pg_catalog.quote_ident(fn.nspname) || '.' || pg_catalog.quote_ident(f.opfname) from pg_catalog.pg_opfamily f join pg_catalog.pg_namespace fn on fn.oid = f.opfnamespace where f.oid = o.amopsortfamily) else '' end
		from pg_catalog.pg_amop o join pg_catalog.pg_depend d on d.classid = 'pg_catalog.pg_amop'::pg_catalog.regclass and d.objid = o.oid and d.refclassid in ('pg_catalog.pg_opclass'::pg_catalog.regclass, 'pg_catalog.pg_opfamily'::pg_catalog.regclass) and d.deptype in ('a', 'i') where d.refobjid >= 16384
		union all select d.refclassid::pg_catalog.regclass, d.refobjid, 'function ' || p.amprocnum || ' (' || pg_catalog.format_type(p.amproclefttype, null) || ', ' || pg_catalog.format_type(p.amprocrighttype, null) || ') ' || p.amproc::pg_catalog.regprocedure::text
		from pg_catalog.pg_amproc p join pg_catalog.pg_depend d on d.classid = 'pg_catalog.pg_amproc'::pg_catalog.regclass and d.objid = p.oid and d.refclassid in ('pg_catalog.pg_opclass'::pg_catalog.regclass, 'pg_catalog.pg_opfamily'::pg_catalog.regclass) and d.deptype in ('a', 'i') where d.refobjid >= 16384 order by 2, 3`, (*builder).member},
	{`select c.oid, n.nspname, c.collname, c.collprovider, c.collcollate, c.collctype, coalesce(pg_catalog.to_jsonb(c) ->> 'colllocale', pg_catalog.to_jsonb(c) ->> 'colliculocale'), c.collisdeterministic, pg_catalog.pg_get_userbyid(c.collowner) from pg_catalog.pg_collation c join pg_catalog.pg_namespace n on n.oid = c.collnamespace where %NS and ` + notExtension("pg_collation", "c.oid") + ` order by 2, 3`, (*builder).collation},
	{`select c.oid, pg_catalog.format_type(c.castsource, null), pg_catalog.format_type(c.casttarget, null), c.castfunc::pg_catalog.regprocedure::text, c.castcontext, c.castmethod from pg_catalog.pg_cast c where c.oid >= 16384 and not exists (select 1 from pg_catalog.pg_depend d where d.classid = 'pg_catalog.pg_cast'::pg_catalog.regclass and d.objid = c.oid and d.deptype = 'i') and ` + notExtension("pg_cast", "c.oid") + ` order by 2, 3`, (*builder).cast},
	{`select c.oid, n.nspname, c.conname, pg_catalog.pg_encoding_to_char(c.conforencoding), pg_catalog.pg_encoding_to_char(c.contoencoding), c.conproc::text, c.condefault, pg_catalog.pg_get_userbyid(c.conowner) from pg_catalog.pg_conversion c join pg_catalog.pg_namespace n on n.oid = c.connamespace where %NS and ` + notExtension("pg_conversion", "c.oid") + ` order by 2, 3`, (*builder).conversion},
	{`select d.oid, n.nspname, d.dictname, pg_catalog.quote_ident(tn.nspname) || '.' || pg_catalog.quote_ident(t.tmplname), d.dictinitoption, pg_catalog.pg_get_userbyid(d.dictowner) from pg_catalog.pg_ts_dict d join pg_catalog.pg_namespace n on n.oid = d.dictnamespace join pg_catalog.pg_ts_template t on t.oid = d.dicttemplate join pg_catalog.pg_namespace tn on tn.oid = t.tmplnamespace where %NS and ` + notExtension("pg_ts_dict", "d.oid") + ` order by 2, 3`, (*builder).dictionary},
	{`select c.oid, n.nspname, c.cfgname, pg_catalog.quote_ident(pn.nspname) || '.' || pg_catalog.quote_ident(p.prsname), pg_catalog.pg_get_userbyid(c.cfgowner) from pg_catalog.pg_ts_config c join pg_catalog.pg_namespace n on n.oid = c.cfgnamespace join pg_catalog.pg_ts_parser p on p.oid = c.cfgparser join pg_catalog.pg_namespace pn on pn.oid = p.prsnamespace where %NS and ` + notExtension("pg_ts_config", "c.oid") + ` order by 2, 3`, (*builder).configuration},
	{`select m.mapcfg, (select t.alias from pg_catalog.ts_token_type(c.cfgparser) t where t.tokid = m.maptokentype), pg_catalog.string_agg(m.mapdict::pg_catalog.regdictionary::text, ', ' order by m.mapseqno) from pg_catalog.pg_ts_config_map m join pg_catalog.pg_ts_config c on c.oid = m.mapcfg where m.mapcfg >= 16384 group by m.mapcfg, c.cfgparser, m.maptokentype order by 1, 2`, (*builder).mapping},
	{`select f.oid, f.fdwname, case when f.fdwhandler <> 0 then f.fdwhandler::pg_catalog.regproc::text end, case when f.fdwvalidator <> 0 then f.fdwvalidator::pg_catalog.regproc::text end, f.fdwoptions::text, pg_catalog.pg_get_userbyid(f.fdwowner), f.fdwacl::text from pg_catalog.pg_foreign_data_wrapper f where ` + notExtension("pg_foreign_data_wrapper", "f.oid") + ` order by 2`, (*builder).wrapper},
	{`select s.oid, s.srvname, s.srvtype, s.srvversion, f.fdwname, s.srvoptions::text, pg_catalog.pg_get_userbyid(s.srvowner), s.srvacl::text from pg_catalog.pg_foreign_server s join pg_catalog.pg_foreign_data_wrapper f on f.oid = s.srvfdw where ` + notExtension("pg_foreign_server", "s.oid") + ` order by 2`, (*builder).server},
	{`select e.oid, e.evtname, e.evtevent, e.evtfoid::pg_catalog.regproc::text, pg_catalog.array_to_string(array(select pg_catalog.quote_literal(x) from pg_catalog.unnest(e.evttags) x), ', '), e.evtenabled, pg_catalog.pg_get_userbyid(e.evtowner) from pg_catalog.pg_event_trigger e where e.evtname not in ('` + LogSchema + `_changes', '` + LogSchema + `_drops') and ` + notExtension("pg_event_trigger", "e.oid") + ` order by 2`, (*builder).eventTrigger},
	{`select p.oid, p.pubname, p.puballtables, p.pubinsert, p.pubupdate, p.pubdelete, p.pubtruncate, p.pubviaroot, pg_catalog.pg_get_userbyid(p.pubowner),
		(select pg_catalog.string_agg(pg_catalog.quote_ident(n.nspname) || '.' || pg_catalog.quote_ident(c.relname) || coalesce(' (' || (select pg_catalog.string_agg(pg_catalog.quote_ident(a.attname), ', ' order by a.attnum) from pg_catalog.pg_attribute a where a.attrelid = c.oid and a.attnum = any(r.prattrs)) || ')', '') || coalesce(' where (' || pg_catalog.pg_get_expr(r.prqual, c.oid) || ')', ''), ', ' order by n.nspname, c.relname) from pg_catalog.pg_publication_rel r join pg_catalog.pg_class c on c.oid = r.prrelid join pg_catalog.pg_namespace n on n.oid = c.relnamespace where r.prpubid = p.oid),
		(select pg_catalog.string_agg(pg_catalog.quote_ident(n.nspname), ', ' order by n.nspname) from pg_catalog.pg_publication_namespace s join pg_catalog.pg_namespace n on n.oid = s.pnnspid where s.pnpubid = p.oid)
		from pg_catalog.pg_publication p order by 2`, (*builder).publication},
	{`select d.classoid::pg_catalog.regclass, d.objoid, d.objsubid, d.description from pg_catalog.pg_description d where d.objoid >= 16384 or d.classoid = 'pg_catalog.pg_namespace'::pg_catalog.regclass and d.objoid = (select oid from pg_catalog.pg_namespace where nspname = 'public')`, (*builder).comment},
	{`select 'the subscription ' || subname from pg_catalog.pg_subscription where subdbid = (select oid from pg_catalog.pg_database where datname = pg_catalog.current_database())
		union all select 'the language ' || lanname from pg_catalog.pg_language l where l.oid >= 16384 and ` + notExtension("pg_language",
		"l.oid") + `
		union all select 'the access method ' || amname from pg_catalog.pg_am a where a.oid >= 16384 and ` + notExtension("pg_am",
		"a.oid") + `
		union all select 'the transform for ' || pg_catalog.format_type(trftype, null) from pg_catalog.pg_transform t where t.oid >= 16384 and ` + notExtension("pg_transform", "t.oid") + `
		union all select 'the user mapping of ' || usename || ' for ' || srvname || ' (it may hold a password)' from pg_catalog.pg_user_mappings
		union all select 'the text search parser ' || prsname from pg_catalog.pg_ts_parser p where p.oid >= 16384 and ` + notExtension("pg_ts_parser", "p.oid") + `
		union all select 'the text search template ' || tmplname from pg_catalog.pg_ts_template p where p.oid >= 16384 and ` + notExtension("pg_ts_template", "p.oid") + `
		union all select 'default privileges of ' || pg_catalog.pg_get_userbyid(defaclrole) from pg_catalog.pg_default_acl
		union all select 'security labels' where exists (select 1 from pg_catalog.pg_seclabel)
		union all select 'settings of the database or of roles in it' where exists (select 1 from pg_catalog.pg_db_role_setting where setdatabase = (select oid from pg_catalog.pg_database where datname = pg_catalog.current_database()))
		union all select count(*) || ' large objects' from pg_catalog.pg_largeobject_metadata having count(*) > 0
		union all select 'the shell type ' || t.typname from pg_catalog.pg_type t where not t.typisdefined and t.oid >= 16384
		order by 1`, (*builder).untracked},
}
