# %% [markdown]
# # First day
# The whole job on the made-up mill, as a notebook: look at the table, score every feature, see what repeats, select, defend.
# Results are shown as tables; figures as pictures.

# %%
import chaff

lots = chaff.demo.lots(rows=400)
table = chaff.open_table(lots, "loaf_volume", ignore=["accepted", "grade"], groups="mill")
table

# %% [markdown]
# ## Look at the columns
# `review` is for you to decide. A blocked feature is not used until it is pinned in.

# %%
screened = chaff.screen(table)
screened

# %%
screened["crumb_score"]["reason"]

# %% [markdown]
# ## Score every feature

# %%
found = chaff.relevance(table, ["spearman", "mutual_information"])
found

# %%
found.plot(bars=12)

# %% [markdown]
# Which would stay at other limits? Nothing is computed again.

# %%
found.try_limits([0.1, 0.2, 0.3])

# %% [markdown]
# ## What repeats

# %%
chaff.inflation(table).shown().head(8)

# %% [markdown]
# ## Select

# %%
run = chaff.select(table, plan="quick", state=False)
run

# %%
run.features, run.honest.keep_up.answer

# %%
chaff.plots.score_by_size(run.result("search"))

# %% [markdown]
# Why did a column go? Every stage's word on it:

# %%
run.selection.explain("protein_nir_pct")

# %% [markdown]
# ## Use it
# A frame comes in, a frame goes out; a model predicts new rows.

# %%
new = chaff.demo.lots(rows=20, seed=3)
run.selection.apply(new).head()

# %%
fitted = chaff.models.fit(table.with_features(run.features), "ridge")
fitted.predict(new).head()
